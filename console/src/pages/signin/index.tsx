import { useMutation, useQueryClient } from "@tanstack/react-query";
import { KeyRound } from "lucide-react";
import { useState, type FormEvent } from "react";
import { api, Refusal } from "../../lib/api";
import { canPasskey, withPasskey } from "../../lib/passkeys";
import { Bare, Button, Field } from "../../ui";
import { key } from "../../lib/query-keys";

/** Signing in: the password, then the second factor where there is one. The page asked for follows. */
export function SignInPage({ domains, organisation }: { domains: string[]; organisation: string }) {
  const queries = useQueryClient();
  const [signIn, setSignIn] = useState("");
  const [password, setPassword] = useState("");
  const [second, setSecond] = useState<Refusal>();
  const [joining, setJoining] = useState(false);
  const asking = useMutation({
    mutationFn: () => api.signIn({ sign_in: signIn, password }),
    onSuccess: () => queries.refetchQueries({ queryKey: key("welcome") }),
    onError: (e) => {
      setPassword("");
      if (e instanceof Refusal && e.ticket) setSecond(e);
    },
  });
  const refusal = asking.error instanceof Refusal ? asking.error : undefined;
  const submit = (e: FormEvent) => {
    e.preventDefault();
    asking.mutate();
  };
  if (second) {
    return (
      <SecondStep
        ticket={second.ticket!}
        factors={second.factors}
        onBack={() => {
          setSecond(undefined);
          asking.reset();
        }}
      />
    );
  }
  if (joining) return <Join domains={domains} onBack={() => setJoining(false)} />;
  return (
    <Bare title="Sign in">
      <p className="text-muted">{organisation}</p>
      <form onSubmit={submit} className="mt-3 flex flex-col gap-4">
        <Field
          label="Sign-in name"
          hint="Or your mail address."
          value={signIn}
          onChange={(e) => setSignIn(e.target.value)}
          autoComplete="username"
          autoCapitalize="none"
          required
          autoFocus
        />
        <Field
          label="Password"
          type="password"
          value={password}
          onChange={(e) => setPassword(e.target.value)}
          autoComplete="current-password"
          required
          error={refusal && !refusal.ticket && `${refusal.message} ${refusal.remedy}`}
        />
        <Button type="submit" look="primary" disabled={asking.isPending}>
          {asking.isPending ? "Signing in" : "Sign in"}
        </Button>
      </form>
      {domains.length > 0 && (
        <Button look="quiet" className="mt-3" onClick={() => setJoining(true)}>
          Ask for an account
        </Button>
      )}
    </Bare>
  );
}

function SecondStep({ ticket, factors, onBack }: { ticket: string; factors: string[]; onBack: () => void }) {
  const queries = useQueryClient();
  const hasPasskey = canPasskey && factors.includes("passkey");
  const codes = factors.includes("codes");
  const [recovery, setRecovery] = useState(false);
  const [code, setCode] = useState("");
  const proving = useMutation({
    mutationFn: async (by: "code" | "passkey") => {
      if (by === "code") return api.secondStep({ ticket, code: code.trim() });
      const { options } = await api.askPasskey(ticket);
      return api.secondStep({ ticket, passkey: await withPasskey(options) });
    },
    onSuccess: () => queries.refetchQueries({ queryKey: key("welcome") }),
    onError: () => setCode(""),
  });
  const refusal = proving.error instanceof Refusal ? proving.error : undefined;
  const stopped = proving.error instanceof DOMException;
  const typed = codes || recovery;
  const submit = (e: FormEvent) => {
    e.preventDefault();
    proving.mutate("code");
  };
  return (
    <Bare title="One more step">
      <p className="mb-4 text-muted">
        {typed
          ? recovery
            ? "Type one of the recovery codes that you kept. It counts once."
            : "Type the code that your authenticator shows now."
          : "Use the passkey of this account."}
      </p>
      {hasPasskey && !recovery && (
        <Button
          look={codes ? "plain" : "primary"}
          className="mb-4"
          icon={<KeyRound size={18} />}
          disabled={proving.isPending}
          onClick={() => proving.mutate("passkey")}
        >
          Use a passkey
        </Button>
      )}
      {typed && (
        <form onSubmit={submit} className="flex flex-col gap-4">
          <Field
            key={String(recovery)}
            label={recovery ? "Recovery code" : "Code"}
            inputMode={recovery ? "text" : "numeric"}
            autoComplete="one-time-code"
            autoCapitalize="none"
            value={code}
            onChange={(e) => setCode(e.target.value)}
            required
            autoFocus
          />
          <Button type="submit" look="primary" disabled={proving.isPending || code.trim() === ""}>
            Sign in
          </Button>
        </form>
      )}
      {(refusal || stopped) && (
        <p role="alert" className="mt-3 text-sm text-brick">
          {refusal
            ? `${refusal.message} ${refusal.remedy}`
            : "The browser did not use a passkey. Try again, or take another way."}
        </p>
      )}
      <div className="mt-4 flex flex-wrap gap-2">
        <Button
          look="quiet"
          onClick={() => {
            setRecovery(!recovery);
            setCode("");
            proving.reset();
          }}
        >
          {recovery ? "Use the second factor" : "It is not at hand"}
        </Button>
        <Button look="quiet" onClick={onBack}>
          Back
        </Button>
      </div>
    </Bare>
  );
}

/** Asking for an account, where a rule lets people of some mail domains. */
function Join({ domains, onBack }: { domains: string[]; onBack: () => void }) {
  const [name, setName] = useState("");
  const [signIn, setSignIn] = useState("");
  const [mail, setMail] = useState("");
  const asking = useMutation({
    mutationFn: () => api.signUp({ sign_in: signIn, display_name: name, mail }),
  });
  const submit = (e: FormEvent) => {
    e.preventDefault();
    asking.mutate();
  };
  if (asking.isSuccess) {
    return (
      <Bare title="Look at your mail">
        <p>What comes next is sent to {mail}. It may take until somebody has approved the account.</p>
        <Button className="mt-5" onClick={onBack}>
          To the sign-in
        </Button>
      </Bare>
    );
  }
  const refusal = asking.error instanceof Refusal ? asking.error : undefined;
  return (
    <Bare title="Ask for an account">
      <p className="mb-4 text-muted">For people with a mail address at {domains.join(" or ")}.</p>
      <form onSubmit={submit} className="flex flex-col gap-4">
        <Field
          label="Your name"
          value={name}
          onChange={(e) => setName(e.target.value)}
          autoComplete="name"
          required
          autoFocus
        />
        <Field
          label="Mail address"
          type="email"
          value={mail}
          onChange={(e) => setMail(e.target.value)}
          autoComplete="email"
          required
        />
        <Field
          label="Sign-in name"
          hint="Small letters and digits."
          value={signIn}
          onChange={(e) => setSignIn(e.target.value)}
          autoComplete="username"
          autoCapitalize="none"
          required
        />
        {refusal && (
          <p role="alert" className="text-sm text-brick">
            {refusal.message} {refusal.remedy}
          </p>
        )}
        <Button type="submit" look="primary" disabled={asking.isPending}>
          Ask
        </Button>
        <Button look="quiet" onClick={onBack}>
          Back
        </Button>
      </form>
    </Bare>
  );
}
