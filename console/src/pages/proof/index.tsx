import { useEffect, useRef, useState, type FormEvent } from "react";
import { api, onProofNeeded, Refusal, type Proving } from "../../lib/api";
import { canPasskey, withPasskey } from "../../lib/passkeys";
import { Button, Dialog, DialogActions, Field } from "../../ui";

/** Asks for the password once more when something that matters needs it; what was begun goes on. What changes how one
 * signs in asks for a second factor as well. */
export function Proof() {
  const [open, setOpen] = useState(false);
  const [wanted, setWanted] = useState<Proving>("password");
  const [password, setPassword] = useState("");
  const [code, setCode] = useState("");
  const [refusal, setRefusal] = useState<{ at: "password" | "code"; text: string }>();
  const [busy, setBusy] = useState(false);
  const answer = useRef<(given: boolean) => void>(undefined);
  useEffect(() => {
    onProofNeeded(
      (needs) =>
        new Promise((resolve) => {
          answer.current = resolve;
          setWanted(needs);
          setPassword("");
          setCode("");
          setRefusal(undefined);
          setOpen(true);
        }),
    );
  }, []);
  const end = (given: boolean) => {
    setOpen(false);
    answer.current?.(given);
    answer.current = undefined;
  };
  const factor = wanted === "factor";
  const prove = async (what: () => Promise<void>) => {
    setBusy(true);
    setRefusal(undefined);
    try {
      await what();
      end(true);
    } catch (problem) {
      const known = problem instanceof Refusal;
      const text = known ? `${problem.message} ${problem.remedy}` : String(problem);
      if (known && problem.code === "wrong_sign_in") {
        setRefusal({ at: "password", text: "That is not your password." });
      } else {
        setRefusal({ at: factor ? "code" : "password", text });
      }
    }
    setBusy(false);
  };
  const submit = (e: FormEvent) => {
    e.preventDefault();
    e.stopPropagation();
    void prove(() => api.prove({ password, code: factor ? code.trim() : undefined }));
  };
  const passkey = () =>
    prove(async () => {
      const { ticket, options } = await api.askProof();
      await api.prove({ password, ticket, passkey: await withPasskey(options) });
    });
  return (
    <Dialog
      open={open}
      onClose={() => end(false)}
      title={factor ? "Your password and second factor, once more" : "Your password, once more"}
      description={
        factor
          ? "This changes how you sign in. Both count for ten minutes."
          : "This decides over people, rights or what goes for good. The password counts for ten minutes."
      }
    >
      <form onSubmit={submit}>
        <Field
          label="Password"
          type="password"
          autoComplete="current-password"
          value={password}
          onChange={(e) => setPassword(e.target.value)}
          error={refusal?.at === "password" ? refusal.text : undefined}
          autoFocus
          required
        />
        {factor && (
          <Field
            className="mt-4"
            label="Code of your authenticator, or a recovery code"
            autoComplete="one-time-code"
            value={code}
            onChange={(e) => setCode(e.target.value)}
            error={refusal?.at === "code" ? refusal.text : undefined}
          />
        )}
        <DialogActions>
          <Button onClick={() => end(false)}>Cancel</Button>
          {factor && canPasskey && (
            <Button disabled={busy || password === ""} onClick={() => void passkey()}>
              Use a passkey
            </Button>
          )}
          <Button
            type="submit"
            look="primary"
            disabled={busy || password === "" || (factor && code.trim() === "")}
          >
            Go on
          </Button>
        </DialogActions>
      </form>
    </Dialog>
  );
}
