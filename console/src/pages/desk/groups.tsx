import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { Plus, Users } from "lucide-react";
import { useState, type FormEvent } from "react";
import { api, Refusal, type Group } from "../../lib/api";
import { count, size } from "../../lib/show";
import { Button, Dialog, DialogActions, Empty, Field, Loading, Notice, useToast } from "../../ui";

/** All groups: what they are for, and who is in them. */
export function Groups() {
  const groups = useQuery({ queryKey: ["groups"], queryFn: api.groups });
  const [open, setOpen] = useState<Group | "new">();
  const make = (
    <Button look="primary" icon={<Plus size={18} />} onClick={() => setOpen("new")}>
      New group
    </Button>
  );
  return (
    <>
      {groups.isPending && <Loading />}
      {groups.isError && <Notice error={groups.error} retry={() => void groups.refetch()} />}
      {groups.data?.groups.length === 0 && (
        <Empty title="No group yet" action={make}>
          What is given to a group reaches each member, now and later. Make the groups first, then the people.
        </Empty>
      )}
      {groups.data && groups.data.groups.length > 0 && (
        <>
          <div className="py-3">{make}</div>
          <ul>
            {groups.data.groups.map((g) => (
              <li key={g.name} className="border-b border-line">
                <button
                  type="button"
                  onClick={() => setOpen(g)}
                  className="grid w-full grid-cols-[28px_1fr_2fr_2fr] items-center gap-3 px-1 py-2.5 text-left hover:bg-sheet max-md:grid-cols-[28px_1fr_auto]"
                >
                  <Users size={20} strokeWidth={1.6} aria-hidden className="text-muted" />
                  <span className="min-w-0 truncate font-semibold">{g.name}</span>
                  <span className="min-w-0 truncate text-[14.5px] text-muted max-md:hidden">{g.note}</span>
                  <span
                    className="min-w-0 truncate text-[14.5px]"
                    title={g.members.map((m) => m.name).join(", ")}
                  >
                    <span className="max-md:hidden">
                      {g.members.map((m) => m.name).join(", ") || "nobody yet"}
                    </span>
                    <span className="text-muted md:hidden">{count(g.members.length, "member")}</span>
                  </span>
                </button>
              </li>
            ))}
          </ul>
        </>
      )}
      {open && <GroupDialog group={open === "new" ? undefined : open} onClose={() => setOpen(undefined)} />}
    </>
  );
}

function GroupDialog({ group, onClose }: { group?: Group; onClose: () => void }) {
  const queries = useQueryClient();
  const toast = useToast();
  const accounts = useQuery({ queryKey: ["accounts"], queryFn: api.accounts });
  const before = group?.members.map((m) => m.to.replace("account:", "")) ?? [];
  const [name, setName] = useState(group?.name ?? "");
  const [note, setNote] = useState(group?.note ?? "");
  const [members, setMembers] = useState(before);
  const held = group?.quota === undefined ? "" : size(group.quota);
  const [quota, setQuota] = useState(held);
  const [ending, setEnding] = useState(false);
  const done = async (words: string) => {
    await queries.invalidateQueries();
    toast.say(words);
    onClose();
  };
  const saving = useMutation({
    mutationFn: () =>
      group
        ? api.changeGroup(group.name, {
            ...(name !== group.name && { name }),
            ...(note !== group.note && { note }),
            ...(quota.trim() !== held && { quota: quota.trim() || "none" }),
            add: members.filter((m) => !before.includes(m)),
            remove: before.filter((m) => !members.includes(m)),
          })
        : api.makeGroup({ name, note, members }),
    onSuccess: (saved) =>
      done(group ? `Saved the group "${saved.name}".` : `Made the group "${saved.name}".`),
  });
  const end = useMutation({
    mutationFn: () => api.endGroup(group!.name),
    onSuccess: () => done(`The group "${group!.name}" is ended. Its members stay.`),
  });
  const submit = (e: FormEvent) => {
    e.preventDefault();
    saving.mutate();
  };
  const error = saving.error ?? end.error;
  return (
    <Dialog
      open
      onClose={onClose}
      title={group ? group.name : "New group"}
      description="What is given to it reaches each member, now and later."
    >
      <form onSubmit={submit} className="min-h-0 overflow-y-auto px-0.5">
        <Field
          label="Name"
          value={name}
          onChange={(e) => setName(e.target.value)}
          required
          autoFocus={!group}
        />
        <Field
          className="mt-4"
          label="What it is for"
          value={note}
          onChange={(e) => setNote(e.target.value)}
        />
        {group && (
          <Field
            className="mt-4"
            label="Each member's home may hold (optional)"
            placeholder="20 GiB"
            hint="Of several groups the largest counts; what is said of an account alone comes first."
            value={quota}
            onChange={(e) => setQuota(e.target.value)}
          />
        )}
        <fieldset className="mt-4">
          <legend className="mb-1 font-semibold">Members</legend>
          {accounts.isError && <Notice error={accounts.error} />}
          <div className="grid max-h-56 grid-cols-2 gap-x-4 gap-y-1.5 overflow-y-auto rounded-lg border border-line p-3 max-sm:grid-cols-1">
            {accounts.data?.accounts.map((a) => (
              <label key={a.sign_in} className="flex min-w-0 items-center gap-2">
                <input
                  type="checkbox"
                  className="size-4 shrink-0 accent-gold"
                  checked={members.includes(a.sign_in)}
                  onChange={(e) =>
                    setMembers(
                      e.target.checked ? [...members, a.sign_in] : members.filter((m) => m !== a.sign_in),
                    )
                  }
                />
                <span className="truncate">{a.display_name}</span>
              </label>
            ))}
          </div>
        </fieldset>
        {error && (
          <p role="alert" className="mt-4 rounded-lg bg-brick-wash p-3">
            {error instanceof Refusal ? `${error.message} ${error.remedy}` : String(error)}
          </p>
        )}
        {ending && group && (
          <p role="alert" className="mt-4 rounded-lg bg-brick-wash p-3">
            {count(group.members.length, "member")} will lose what was given to this group. Nothing is
            removed.
          </p>
        )}
        <DialogActions>
          {group && (
            <Button
              look={ending ? "loss" : "quiet"}
              className={`mr-auto ${ending ? "" : "text-brick"}`}
              disabled={end.isPending}
              onClick={() => (ending ? end.mutate() : setEnding(true))}
            >
              {ending ? "End it now" : "End the group"}
            </Button>
          )}
          <Button onClick={onClose}>Cancel</Button>
          <Button type="submit" look="primary" disabled={saving.isPending || name.trim() === ""}>
            {group ? "Save" : "Make group"}
          </Button>
        </DialogActions>
      </form>
    </Dialog>
  );
}
