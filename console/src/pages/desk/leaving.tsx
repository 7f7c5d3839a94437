import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState, type FormEvent } from "react";
import { api, Refusal, type Account } from "../../lib/api";
import { findOwners } from "../../lib/choosing";
import { count, shortDay, size } from "../../lib/show";
import {
  Button,
  Dialog,
  DialogActions,
  Field,
  Loading,
  Notice,
  Picker,
  useToast,
  type Choosable,
} from "../../ui";
import { key } from "../../lib/query-keys";

/** Deleting a disabled account: what would go, when, and who gets the files. */
export function LeavingDialog({
  account,
  onClose,
  onDone,
}: {
  account: Account;
  onClose: () => void;
  onDone: () => void;
}) {
  const queries = useQueryClient();
  const toast = useToast();
  const goes = useQuery({
    queryKey: key("removal", account.sign_in),
    queryFn: () => api.removal(account.sign_in),
  });
  const [name, setName] = useState("");
  const [days, setDays] = useState("30");
  const [heir, setHeir] = useState<Choosable[]>([]);
  const deciding = useMutation({
    mutationFn: () =>
      api.decideRemoval(account.sign_in, { name: name.trim(), days: Number(days), heir: heir[0]?.key }),
    onSuccess: async (told) => {
      await queries.invalidateQueries();
      toast.say(
        `${account.display_name} is deleted on ${shortDay(new Date(told.leaves!))}. Until then it can be undone.`,
      );
      onDone();
    },
  });
  const keeping = useMutation({
    mutationFn: () => api.undoRemoval(account.sign_in),
    onSuccess: async () => {
      await queries.invalidateQueries();
      toast.say(`${account.display_name} stays, disabled.`);
      onDone();
    },
  });
  const submit = (e: FormEvent) => {
    e.preventDefault();
    deciding.mutate();
  };
  const error = deciding.error ?? keeping.error;
  const refusal = error instanceof Refusal ? error : undefined;
  return (
    <Dialog open onClose={onClose} title={`Delete ${account.display_name}`}>
      {goes.isPending && <Loading rows={3} />}
      {goes.isError && <Notice error={goes.error} />}
      {goes.data && (
        <form onSubmit={submit} className="min-h-0 overflow-y-auto px-0.5">
          <p>With the account go:</p>
          <ul className="mt-1 list-disc pl-5">
            <li>
              {count(goes.data.files, "file")} on its home, {size(goes.data.bytes)}
            </li>
            {goes.data.given > 0 && <li>{count(goes.data.given, "grant")} that it gave to others there</li>}
            {goes.data.received > 0 && <li>{count(goes.data.received, "grant")} that it was given</li>}
            {goes.data.computers > 0 && <li>{count(goes.data.computers, "connected computer")}</li>}
            {goes.data.uploads > 0 && <li>{count(goes.data.uploads, "unfinished upload")}</li>}
          </ul>
          <p className="mt-2 text-muted">
            What it put on shared shelves stays there, and the history still says who did what.
          </p>
          {goes.data.sole_owner_of.length > 0 && (
            <p role="alert" className="mt-3 rounded-lg bg-brick-wash p-3">
              It is the only owner of {goes.data.sole_owner_of.join(", ")}. Name another owner first, under
              Shelves.
            </p>
          )}
          {goes.data.leaves ? (
            <p className="mt-4 rounded-lg bg-gold-wash p-3">
              It is deleted on {shortDay(new Date(goes.data.leaves))};{" "}
              {goes.data.heir ? `its files go to ${goes.data.heir}` : "its files are out of reach then"}.
              Until then it can be undone.
            </p>
          ) : (
            <>
              <div className="mt-4 grid grid-cols-[2fr_1fr] gap-4 max-sm:grid-cols-1">
                <Picker
                  single
                  label="Its files go to"
                  placeholder="Nobody: out of reach then"
                  hint="As one folder on their home."
                  of="owners"
                  chosen={heir}
                  onChange={(chosen) => setHeir(chosen.filter((c) => c.key !== account.sign_in))}
                  find={findOwners}
                />
                <Field
                  label="After days"
                  type="number"
                  min={1}
                  max={3650}
                  value={days}
                  onChange={(e) => setDays(e.target.value)}
                  required
                />
              </div>
              <Field
                className="mt-4"
                label={`Type "${account.sign_in}"`}
                hint="To be sure that you mean this account."
                value={name}
                onChange={(e) => setName(e.target.value)}
                autoCapitalize="none"
                autoComplete="off"
                required
              />
            </>
          )}
          {refusal && (
            <p role="alert" className="mt-4 rounded-lg bg-brick-wash p-3">
              {refusal.message} {refusal.remedy}
            </p>
          )}
          <DialogActions>
            <Button onClick={onClose}>Cancel</Button>
            {goes.data.leaves ? (
              <Button look="primary" disabled={keeping.isPending} onClick={() => keeping.mutate()}>
                Let it stay
              </Button>
            ) : (
              <Button
                type="submit"
                look="loss"
                disabled={
                  deciding.isPending || name.trim() !== account.sign_in || goes.data.sole_owner_of.length > 0
                }
              >
                Delete it on that day
              </Button>
            )}
          </DialogActions>
        </form>
      )}
    </Dialog>
  );
}
