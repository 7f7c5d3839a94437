import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { Library } from "lucide-react";
import { useState, type FormEvent } from "react";
import { api, Refusal, type SharedShelf } from "../../lib/api";
import { findOwners } from "../../lib/choosing";
import { count, size } from "../../lib/show";
import {
  Button,
  Dialog,
  DialogActions,
  Empty,
  Field,
  Loading,
  Notice,
  Picker,
  useToast,
  type Choosable,
} from "../../ui";
import { Fullness } from "../account/profile";
import { key } from "../../lib/query-keys";

/** All shared shelves: what they are for, who owns them, how full they are. */
export function ShelvesDesk() {
  const shelves = useQuery({ queryKey: key("shared shelves"), queryFn: api.sharedShelves });
  const [open, setOpen] = useState<SharedShelf>();
  return (
    <>
      {shelves.isPending && <Loading />}
      {shelves.isError && <Notice error={shelves.error} retry={() => void shelves.refetch()} />}
      {shelves.data?.shelves.length === 0 && (
        <Empty title="No shared shelf yet">
          Make one on the page of the shelves, or make a folder a shared shelf in its access dialog.
        </Empty>
      )}
      <ul className="pt-2">
        {shelves.data?.shelves.map((s) => (
          <li key={s.root} className="border-b border-line">
            <button
              type="button"
              onClick={() => setOpen(s)}
              className="grid w-full grid-cols-[28px_1.2fr_1.4fr_1fr_1fr] items-center gap-3 px-1 py-2.5 text-left hover:bg-sheet max-md:grid-cols-[28px_1fr_auto]"
            >
              <Library size={20} strokeWidth={1.6} aria-hidden className="text-muted" />
              <span className="min-w-0 truncate font-semibold">{s.name}</span>
              <span className="min-w-0 truncate text-[14.5px] text-muted max-md:hidden">{s.note}</span>
              <span className="min-w-0 truncate text-[14.5px] max-md:hidden">
                {s.owner_names?.join(", ")}
              </span>
              <span className="text-right font-mono text-[14px]">
                {size(s.bytes)}
                {s.quota !== undefined && ` of ${size(s.quota)}`}
              </span>
            </button>
          </li>
        ))}
      </ul>
      {open && <ShelfDialog shelf={open} onClose={() => setOpen(undefined)} />}
    </>
  );
}

function ShelfDialog({ shelf, onClose }: { shelf: SharedShelf; onClose: () => void }) {
  const queries = useQueryClient();
  const toast = useToast();
  const [note, setNote] = useState(shelf.note);
  const before = shelf.quota === undefined ? "" : size(shelf.quota).replace(/\.0+ /, " ");
  const [quota, setQuota] = useState(before);
  const was = shelf.owners.map((o, i): Choosable => ({ key: o, name: shelf.owner_names?.[i] ?? o, note: o }));
  const [owners, setOwners] = useState(was);
  const keys = owners.map((o) => o.key);
  const saving = useMutation({
    mutationFn: () =>
      api.changeShelf(shelf.root, {
        ...(note !== shelf.note && { note }),
        ...(quota.trim() !== before && { quota: quota.trim() || "none" }),
        ...(keys.join() !== shelf.owners.join() && { owners: keys }),
      }),
    onSuccess: async () => {
      await queries.invalidateQueries();
      toast.say(`Saved the shelf "${shelf.name}".`);
      onClose();
    },
  });
  const submit = (e: FormEvent) => {
    e.preventDefault();
    saving.mutate();
  };
  const refusal = saving.error instanceof Refusal ? saving.error : undefined;
  return (
    <Dialog
      open
      onClose={onClose}
      title={shelf.name}
      description={`${count(shelf.files, "file")}, ${size(shelf.bytes)}${shelf.claimed > 0 ? `, ${size(shelf.claimed)} on the way` : ""}.`}
    >
      <form onSubmit={submit} className="min-h-0 overflow-y-auto px-0.5">
        {shelf.quota !== undefined && <Fullness used={shelf.bytes} quota={shelf.quota} />}
        <Field
          className="mt-4"
          label="What it is for"
          value={note}
          onChange={(e) => setNote(e.target.value)}
        />
        <Field
          className="mt-4"
          label="It may hold (optional)"
          placeholder="20 GiB"
          hint="Uploads beyond it are refused before a byte is sent. What is there already stays."
          value={quota}
          onChange={(e) => setQuota(e.target.value)}
          error={refusal?.code === "size_malformed" ? `${refusal.message} ${refusal.remedy}` : undefined}
        />
        <div className="mt-4">
          <Picker
            label="Owners"
            placeholder="Find somebody"
            of="owners"
            chosen={owners}
            onChange={setOwners}
            find={findOwners}
          />
        </div>
        {refusal && refusal.code !== "size_malformed" && (
          <p role="alert" className="mt-4 rounded-lg bg-brick-wash p-3">
            {refusal.message} {refusal.remedy}
          </p>
        )}
        <DialogActions>
          <Button onClick={onClose}>Cancel</Button>
          <Button type="submit" look="primary" disabled={saving.isPending || owners.length === 0}>
            Save
          </Button>
        </DialogActions>
      </form>
    </Dialog>
  );
}
