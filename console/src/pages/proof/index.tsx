import { useEffect, useRef, useState, type FormEvent } from "react";
import { api, onProofNeeded, Refusal } from "../../lib/api";
import { Button, Dialog, DialogActions, Field } from "../../ui";

/** Asks for the password once more when something that matters needs it; what was begun goes on. */
export function Proof() {
  const [open, setOpen] = useState(false);
  const [password, setPassword] = useState("");
  const [refusal, setRefusal] = useState<string>();
  const [busy, setBusy] = useState(false);
  const answer = useRef<(given: boolean) => void>(undefined);
  useEffect(() => {
    onProofNeeded(
      () =>
        new Promise((resolve) => {
          answer.current = resolve;
          setPassword("");
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
  const submit = async (e: FormEvent) => {
    e.preventDefault();
    e.stopPropagation();
    setBusy(true);
    try {
      await api.prove(password);
      end(true);
    } catch (problem) {
      const known = problem instanceof Refusal;
      setRefusal(
        known && problem.code === "wrong_sign_in"
          ? "That is not your password."
          : known
            ? `${problem.message} ${problem.remedy}`
            : String(problem),
      );
    }
    setBusy(false);
  };
  return (
    <Dialog
      open={open}
      onClose={() => end(false)}
      title="Your password, once more"
      description="This decides over people or rights. The password counts for ten minutes."
    >
      <form onSubmit={(e) => void submit(e)}>
        <Field
          label="Password"
          type="password"
          autoComplete="current-password"
          value={password}
          onChange={(e) => setPassword(e.target.value)}
          error={refusal}
          autoFocus
          required
        />
        <DialogActions>
          <Button onClick={() => end(false)}>Cancel</Button>
          <Button type="submit" look="primary" disabled={busy || password === ""}>
            Go on
          </Button>
        </DialogActions>
      </form>
    </Dialog>
  );
}
