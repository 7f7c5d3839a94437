import { useInfiniteQuery, useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { Plus, Users } from "lucide-react";
import { useDeferredValue, useState, type FormEvent } from "react";
import { api, type Group } from "../../lib/api";
import { findAccounts } from "../../lib/choosing";
import { count, size } from "../../lib/show";
import {
  Button,
  Dialog,
  DialogActions,
  Empty,
  Field,
  FormError,
  Loading,
  Notice,
  Picker,
  useToast,
  type Choosable,
} from "../../ui";
import { key } from "../../lib/query-keys";

/** The names of those that are not among the others. */
const without = (some: Choosable[], others: Choosable[]) =>
  some.filter((s) => !others.some((o) => o.key === s.key)).map((s) => s.key);

/** All groups, by pages: what they are for, and who is in them. */
export function Groups() {
  const [text, setText] = useState("");
  const words = useDeferredValue(text.trim());
  const list = useInfiniteQuery({
    queryKey: key("groups", words),
    queryFn: ({ pageParam }) => api.groups({ words: words || undefined, limit: 100, cursor: pageParam }),
    initialPageParam: undefined as string | undefined,
    getNextPageParam: (page) => page.next,
    placeholderData: (before) => before,
  });
  const groups = list.data?.pages.flatMap((p) => p.groups) ?? [];
  const total = list.data?.pages[0]?.total ?? 0;
  const [open, setOpen] = useState<{ name?: string }>();
  const make = (
    <Button look="primary" icon={<Plus size={18} />} onClick={() => setOpen({})}>
      New group
    </Button>
  );
  return (
    <>
      {list.isPending && <Loading />}
      {list.isError && <Notice error={list.error} retry={() => void list.refetch()} />}
      {list.data && groups.length === 0 && words === "" && (
        <Empty title="No group yet" action={make}>
          What is given to a group reaches each member, now and later. Make the groups first, then the people.
        </Empty>
      )}
      {list.data && (groups.length > 0 || words !== "") && (
        <>
          <div className="flex flex-wrap items-center gap-3 py-3">
            {make}
            <input
              type="search"
              aria-label="Find a group"
              placeholder="Name, or what it is for"
              value={text}
              onChange={(e) => setText(e.target.value)}
              className="ml-auto min-h-9 w-64 rounded-lg border border-line bg-sheet px-3 py-1.5 max-sm:ml-0 max-sm:w-full"
            />
          </div>
          <p className="pb-1 text-[14.5px] text-muted" role="status">
            {count(total, "group")}
          </p>
          {groups.length === 0 && <Empty title="No group is like that">Try a part of the name.</Empty>}
          <ul>
            {groups.map((g) => (
              <li key={g.name} className="border-b border-line">
                <button
                  type="button"
                  onClick={() => setOpen({ name: g.name })}
                  className="grid w-full grid-cols-[28px_1fr_2fr_2fr] items-center gap-3 px-1 py-2.5 text-left hover:bg-sheet max-md:grid-cols-[28px_1fr_auto]"
                >
                  <Users size={20} strokeWidth={1.6} aria-hidden className="text-muted" />
                  <span className="min-w-0 truncate font-semibold">{g.name}</span>
                  <span className="min-w-0 truncate text-[14.5px] text-muted max-md:hidden">{g.note}</span>
                  <span className="min-w-0 truncate text-[14.5px]">
                    <span className="max-md:hidden">
                      {g.members.map((m) => m.name).join(", ") || "nobody yet"}
                      {(g.people ?? 0) > g.members.length &&
                        ` and ${(g.people ?? 0) - g.members.length} more`}
                    </span>
                    <span className="text-muted md:hidden">{count(g.people ?? 0, "member")}</span>
                  </span>
                </button>
              </li>
            ))}
          </ul>
          {list.hasNextPage && (
            <Button
              className="mt-3"
              disabled={list.isFetchingNextPage}
              onClick={() => void list.fetchNextPage()}
            >
              Show more ({count(total - groups.length, "group")} left)
            </Button>
          )}
        </>
      )}
      {open && open.name === undefined && <GroupDialog onClose={() => setOpen(undefined)} />}
      {open?.name !== undefined && <OneGroup name={open.name} onClose={() => setOpen(undefined)} />}
    </>
  );
}

/** A group with all its members, once they are here. */
function OneGroup({ name, onClose }: { name: string; onClose: () => void }) {
  const group = useQuery({ queryKey: key("group", name), queryFn: () => api.group(name) });
  if (group.data) return <GroupDialog group={group.data} onClose={onClose} />;
  return (
    <Dialog open onClose={onClose} title={name}>
      {group.isError ? (
        <Notice error={group.error} retry={() => void group.refetch()} />
      ) : (
        <Loading rows={4} />
      )}
    </Dialog>
  );
}

function GroupDialog({ group, onClose }: { group?: Group; onClose: () => void }) {
  const queries = useQueryClient();
  const toast = useToast();
  const before =
    group?.members.map((m): Choosable => {
      const signIn = m.to.replace("account:", "");
      return { key: signIn, name: m.name, note: signIn };
    }) ?? [];
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
            add: without(members, before),
            remove: without(before, members),
          })
        : api.makeGroup({ name, note, members: without(members, []) }),
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
            hint="In several groups, the largest counts. A quota of the account itself comes first."
            value={quota}
            onChange={(e) => setQuota(e.target.value)}
          />
        )}
        <div className="mt-4">
          <Picker
            label="Members"
            placeholder="Find somebody"
            of="accounts"
            chosen={members}
            onChange={setMembers}
            find={findAccounts}
          />
        </div>
        <FormError error={error} />
        {ending && group && (
          <p role="alert" className="mt-4 rounded-lg bg-brick-wash p-3">
            {count(group.people ?? 0, "member")} will lose what was given to this group. Nothing is removed.
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
