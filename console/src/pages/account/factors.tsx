import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { KeyRound, Smartphone } from "lucide-react";
import { useState, type FormEvent } from "react";
import { api, sayingOf, type Factor } from "../../lib/api";
import { canPasskey, makePasskey } from "../../lib/passkeys";
import { count, exactly, when } from "../../lib/show";
import { Button, Chip, Dialog, DialogActions, Field, Loading, Notice, useToast } from "../../ui";
import { key } from "../../lib/query-keys";

/** One's second factors: authenticators, passkeys, recovery codes. */
export function FactorsSection() {
  const queries = useQueryClient();
  const toast = useToast();
  const factors = useQuery({ queryKey: key("factors"), queryFn: api.factors });
  const [setting, setSetting] = useState<"codes" | "passkey">();
  const [codes, setCodes] = useState<string[]>();
  const [ending, setEnding] = useState<Factor>();
  const fresh = () => queries.invalidateQueries({ queryKey: key("factors") });
  const end = useMutation({
    mutationFn: (f: Factor) => api.endFactor(f.id),
    onSuccess: async (_, f) => {
      setEnding(undefined);
      await fresh();
      toast.say(`"${f.name}" is removed.`);
    },
    onError: (e) => toast.refuse(e),
  });
  const renew = useMutation({
    mutationFn: () => api.renewRecovery(),
    onSuccess: async (made) => {
      setCodes(made.codes);
      await fresh();
    },
    onError: (e) => toast.refuse(e),
  });
  const all = factors.data?.factors ?? [];
  return (
    <section aria-label="Second factor" className="mt-8">
      <h2 className="text-lg font-bold">Second factor</h2>
      <p className="max-w-xl text-muted">
        Beside the password, something you have: an authenticator that shows codes, or a passkey. With it,
        nobody gets in with your password alone.
      </p>
      {factors.isPending && <Loading rows={1} />}
      {factors.isError && <Notice error={factors.error} retry={() => void factors.refetch()} />}
      {factors.data?.demanded_from && all.length === 0 && (
        <p className="mt-3 max-w-xl rounded-lg bg-gold-wash p-3">
          From {factors.data.demanded_from} on a second factor is demanded. Set one up before that.
        </p>
      )}
      <ul className="mt-2">
        {all.map((f) => (
          <li key={f.id} className="flex items-center gap-4 border-b border-line py-3">
            {f.kind === "codes" ? (
              <Smartphone size={22} strokeWidth={1.6} aria-hidden className="shrink-0 text-muted" />
            ) : (
              <KeyRound size={22} strokeWidth={1.6} aria-hidden className="shrink-0 text-muted" />
            )}
            <div className="min-w-0 flex-1">
              <div className="truncate font-semibold">
                {f.name} <Chip>{f.kind === "codes" ? "authenticator" : "passkey"}</Chip>
              </div>
              <div className="text-[14.5px] text-muted">
                <span title={exactly(f.made)}>set up {when(f.made)}</span>
                {f.used && <span title={exactly(f.used)}>, last used {when(f.used)}</span>}
              </div>
            </div>
            <Button onClick={() => setEnding(f)}>Remove</Button>
          </li>
        ))}
      </ul>
      {factors.data && (
        <div className="mt-3 flex flex-wrap items-center gap-3">
          <Button icon={<Smartphone size={18} />} onClick={() => setSetting("codes")}>
            Add an authenticator
          </Button>
          {canPasskey && factors.data.passkeys && (
            <Button icon={<KeyRound size={18} />} onClick={() => setSetting("passkey")}>
              Add a passkey
            </Button>
          )}
          {all.length > 0 && (
            <Button look="quiet" disabled={renew.isPending} onClick={() => renew.mutate()}>
              New recovery codes
            </Button>
          )}
        </div>
      )}
      {all.length > 0 && factors.data && (
        <p className={`mt-2 text-[14.5px] ${factors.data.recovery_left < 3 ? "text-brick" : "text-muted"}`}>
          {count(factors.data.recovery_left, "recovery code")} left.
        </p>
      )}
      {setting && (
        <SetUp
          kind={setting}
          onClose={() => setSetting(undefined)}
          onDone={(made) => {
            setSetting(undefined);
            if (made.length > 0) setCodes(made);
            void fresh();
          }}
        />
      )}
      {codes && <RecoveryCodes codes={codes} onClose={() => setCodes(undefined)} />}
      {ending && (
        <Dialog
          open
          onClose={() => setEnding(undefined)}
          title={`Remove "${ending.name}"?`}
          description={
            all.length === 1
              ? "It is your only second factor: afterwards the password alone lets one in, and the recovery codes are gone."
              : "The other second factors stay."
          }
        >
          <DialogActions>
            <Button onClick={() => setEnding(undefined)}>Cancel</Button>
            <Button look="loss" disabled={end.isPending} onClick={() => end.mutate(ending)}>
              Remove it
            </Button>
          </DialogActions>
        </Dialog>
      )}
    </section>
  );
}

/** Sets an authenticator or a passkey up. */
export function SetUp({
  kind,
  onClose,
  onDone,
}: {
  kind: "codes" | "passkey";
  onClose: () => void;
  onDone: (codes: string[]) => void;
}) {
  const [name, setName] = useState("");
  const [code, setCode] = useState("");
  const begun = useQuery({
    queryKey: key("new codes"),
    queryFn: api.beginCodes,
    enabled: kind === "codes",
    staleTime: Infinity,
    gcTime: 0,
    retry: false,
    refetchOnWindowFocus: false,
  });
  const confirm = useMutation({
    mutationFn: async () => {
      if (kind === "codes") {
        return api.confirmCodes({ ticket: begun.data!.ticket, code, name: name.trim() });
      }
      const { ticket, options } = await api.beginPasskey();
      const credential = await makePasskey(options);
      return api.confirmPasskey({ ticket, credential, name: name.trim() });
    },
    onSuccess: (made) => onDone(made.codes),
  });
  const submit = (e: FormEvent) => {
    e.preventDefault();
    confirm.mutate();
  };
  const refusal =
    confirm.error instanceof DOMException
      ? "The browser did not make a passkey. Try again, or use an authenticator."
      : sayingOf(confirm.error);
  return (
    <Dialog
      open
      onClose={onClose}
      title={kind === "codes" ? "Add an authenticator" : "Add a passkey"}
      description={
        kind === "codes"
          ? "Scan the picture with an authenticator app, then type the code that it shows."
          : "The browser or your phone keeps it, and asks you before it is used."
      }
    >
      <form onSubmit={submit} className="min-h-0 overflow-y-auto px-0.5">
        {kind === "codes" && begun.isPending && <Loading rows={3} />}
        {kind === "codes" && begun.isError && (
          <Notice error={begun.error} retry={() => void begun.refetch()} />
        )}
        {kind === "codes" && begun.data && (
          <>
            <img
              src={`data:image/svg+xml;base64,${btoa(begun.data.picture)}`}
              alt="QR code for the authenticator"
              className="mx-auto size-52 rounded-lg border border-line bg-white p-2"
            />
            <p className="mt-3 text-center text-[14.5px] text-muted">
              Or type this in:{" "}
              <code className="font-mono break-all text-ink select-all">
                {begun.data.secret.match(/.{1,4}/g)?.join(" ")}
              </code>
            </p>
            <Field
              className="mt-4"
              label="Code"
              inputMode="numeric"
              autoComplete="one-time-code"
              value={code}
              onChange={(e) => setCode(e.target.value)}
              error={refusal}
              required
              autoFocus
            />
          </>
        )}
        <Field
          className="mt-4"
          label="What to call it (optional)"
          value={name}
          onChange={(e) => setName(e.target.value)}
          placeholder={kind === "codes" ? "Authenticator" : "Passkey"}
        />
        {kind === "passkey" && refusal && (
          <p role="alert" className="mt-4 rounded-lg bg-brick-wash p-3">
            {refusal}
          </p>
        )}
        <DialogActions>
          <Button onClick={onClose}>Cancel</Button>
          <Button
            type="submit"
            look="primary"
            disabled={confirm.isPending || (kind === "codes" && (!begun.data || code.trim() === ""))}
          >
            {kind === "codes" ? "Confirm" : "Make the passkey"}
          </Button>
        </DialogActions>
      </form>
    </Dialog>
  );
}

/** Recovery codes, shown once. */
export function RecoveryCodes({ codes, onClose }: { codes: string[]; onClose: () => void }) {
  const toast = useToast();
  const copy = () =>
    void navigator.clipboard.writeText(codes.join("\n")).then(
      () => toast.say("Copied."),
      () => toast.say("The browser does not let us copy. Select the codes and copy them."),
    );
  return (
    <Dialog
      open
      onClose={onClose}
      title="Recovery codes"
      description="Each lets you in once when the second factor is not at hand. They are shown only here: write them down, or print them."
    >
      <ul className="grid grid-cols-2 gap-2 rounded-lg border border-line bg-sheet p-4 font-mono text-[15px] select-all">
        {codes.map((c) => (
          <li key={c}>{c}</li>
        ))}
      </ul>
      <DialogActions>
        <Button onClick={copy}>Copy</Button>
        <Button look="primary" onClick={onClose}>
          I have kept them
        </Button>
      </DialogActions>
    </Dialog>
  );
}
