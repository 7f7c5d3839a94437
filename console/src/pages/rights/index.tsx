import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { Ban, Globe, User, Users, X } from "lucide-react";
import { useState, type FormEvent } from "react";
import { api, Refusal, type Gives, type Grant, type Reach } from "../../lib/api";
import { count, exactly, shortDay } from "../../lib/show";
import {
  Button,
  Chip,
  Choice,
  Dialog,
  DialogActions,
  Field,
  IconButton,
  Loading,
  Notice,
  useToast,
} from "../../ui";

/** What each level means, as one says it. */
export const mayWords: Record<Gives, string> = {
  view: "may look",
  add: "may add files",
  edit: "may edit",
  manage: "manages it",
  deny: "may do nothing",
};

const levels: [Gives, string][] = [
  ["view", "look and download"],
  ["add", "add files"],
  ["edit", "edit"],
  ["manage", "manage, and decide who may"],
  ["deny", "do nothing (denied)"],
];

/** Who can reach something: a few lines, and the way to more. */
export function ReachSection({ node, onMore }: { node: number; onMore: () => void }) {
  const why = useQuery({ queryKey: ["why", node], queryFn: () => api.why(node) });
  const manages = why.data?.level === "manage";
  const reach = useQuery({ queryKey: ["reach", node], queryFn: () => api.reach(node), enabled: manages });
  return (
    <section aria-label="Who can reach it" className="mt-5 text-[14.5px]">
      <h3 className="mb-1 font-semibold text-muted">Who can reach it</h3>
      {(reach.isError || why.isError) && <Notice error={reach.error ?? why.error} />}
      {why.data && !manages && (
        <>
          <p>{`You ${mayWords[why.data.level ?? "view"]}.`}</p>
          {why.data.reasons
            .filter((r) => r.effect === "decides")
            .map((r) => (
              <p key={r.grant.id} className="text-muted">
                Given to {r.grant.to_name}
                {r.grant.by && ` by ${r.grant.by}`}
                {r.grant.until && `, until ${shortDay(new Date(r.grant.until))}`}.
                {r.grant.message && ` “${r.grant.message}”`}
              </p>
            ))}
        </>
      )}
      {manages && reach.data && (
        <>
          <p>{summary(reach.data)}</p>
          <ul>
            {reach.data.grants
              .filter((g) => g.counts)
              .slice(0, 5)
              .map((g) => (
                <li key={g.id} className="flex gap-2 py-0.5">
                  <span className="min-w-0 flex-1 truncate">{g.to_name}</span>
                  <span className={g.can === "deny" ? "text-brick" : "text-muted"}>{mayWords[g.can]}</span>
                </li>
              ))}
          </ul>
          <Button className="mt-2 w-full" icon={<Users size={18} />} onClick={onMore}>
            Give or take access
          </Button>
        </>
      )}
    </section>
  );
}

function summary(reach: Reach): string {
  if (reach.people <= 1) return "Only you.";
  return `${count(reach.people, "person").replace("persons", "people")}${reach.owner ? `, ${reach.owner} owns the shelf` : ""}.`;
}

/** Giving and taking access to one file or folder. */
export function RightsDialog({
  node,
  name,
  folder,
  top,
  onClose,
}: {
  node: number;
  name: string;
  folder: boolean;
  /** The top of a shelf: nothing can be inherited there. */
  top: boolean;
  onClose: () => void;
}) {
  const queries = useQueryClient();
  const reach = useQuery({ queryKey: ["reach", node], queryFn: () => api.reach(node) });
  const who = useQuery({ queryKey: ["who", node], queryFn: () => api.who(node) });
  const toast = useToast();
  const fresh = () =>
    Promise.all([
      queries.invalidateQueries({ queryKey: ["reach"] }),
      queries.invalidateQueries({ queryKey: ["who"] }),
      queries.invalidateQueries({ queryKey: ["entries"] }),
    ]);
  const change = useMutation({
    mutationFn: (g: { to: string; can: Gives; until?: string; message?: string }) => api.give(node, g),
    onSuccess: fresh,
    onError: (e) => toast.refuse(e),
  });
  const ending = useMutation({
    mutationFn: (g: Grant) => api.endGrant(g.id),
    onSuccess: async (_, g) => {
      await fresh();
      toast.say(`"${name}" is no longer given to ${g.to_name}.`, {
        word: "Undo",
        run: () =>
          void api
            .give(node, { to: g.to, can: g.can, until: g.until, message: g.message })
            .then(fresh, toast.refuse),
      });
    },
    onError: (e) => toast.refuse(e),
  });
  const afresh = useMutation({
    mutationFn: (on: boolean) => api.setAfresh(node, on),
    onSuccess: fresh,
    onError: (e) => toast.refuse(e),
  });
  const here = reach.data?.grants.filter((g) => g.node === node) ?? [];
  const above = reach.data?.grants.filter((g) => g.node !== node) ?? [];
  return (
    <Dialog open onClose={onClose} title={`Access to "${name}"`} wide>
      <div className="min-h-0 flex-1 overflow-y-auto">
        {reach.isPending && <Loading rows={3} />}
        {reach.isError && <Notice error={reach.error} />}
        {reach.data && (
          <div className="grid grid-cols-[1fr_300px] gap-6 max-md:grid-cols-1">
            <div className="min-w-0">
              <h3 className="font-semibold">Given here</h3>
              {here.length === 0 && <p className="py-2 text-muted">Nothing yet.</p>}
              <ul>
                {here.map((g) => (
                  <li key={g.id} className="flex flex-wrap items-center gap-2 border-b border-line py-2">
                    <Who grant={g} />
                    <Choice
                      label={`What ${g.to_name} may do`}
                      quiet
                      className="w-52"
                      options={levels}
                      value={g.can}
                      disabled={change.isPending}
                      onChange={(e) =>
                        change.mutate({
                          to: g.to,
                          can: e.target.value as Gives,
                          until: g.until,
                          message: g.message,
                        })
                      }
                    />
                    <IconButton label={`End what is given to ${g.to_name}`} onClick={() => ending.mutate(g)}>
                      <X size={18} />
                    </IconButton>
                  </li>
                ))}
              </ul>
              <GiveForm onGive={(g) => change.mutateAsync(g)} />
              {(above.length > 0 || reach.data.afresh) && (
                <>
                  <h3 className="mt-6 font-semibold">Given further up</h3>
                  <ul>
                    {above.map((g) => (
                      <li
                        key={g.id}
                        className={`flex flex-wrap items-center gap-2 border-b border-line py-2 ${g.counts ? "" : "text-muted line-through"}`}
                      >
                        <Who grant={g} />
                        <span className={g.can === "deny" ? "text-brick" : ""}>{mayWords[g.can]}</span>
                        <span className="w-full truncate text-[14px] text-muted" title={g.path}>
                          on {g.path ?? "a folder further up"}
                        </span>
                      </li>
                    ))}
                  </ul>
                </>
              )}
              {folder && !top && (
                <label className="mt-4 flex items-start gap-2">
                  <input
                    type="checkbox"
                    className="mt-1 size-4 accent-gold"
                    checked={reach.data.afresh}
                    disabled={afresh.isPending}
                    onChange={(e) => afresh.mutate(e.target.checked)}
                  />
                  <span>
                    Start afresh here
                    <span className="block text-[14.5px] text-muted">
                      What is given further up does not reach this folder. Denials still do, and the
                      shelf&rsquo;s owner keeps everything.
                    </span>
                  </span>
                </label>
              )}
            </div>
            <div className="min-w-0">
              <h3 className="font-semibold">Who may, and why</h3>
              {who.isPending && <Loading rows={3} />}
              {who.isError && <Notice error={who.error} />}
              <ul>
                {who.data?.people.map((p) => {
                  const decides = p.reasons.find((r) => r.effect === "decides");
                  return (
                    <li key={p.account} className="border-b border-line py-2 text-[14.5px]">
                      <span className="flex gap-2">
                        <span className="min-w-0 flex-1 truncate">{p.display_name}</span>
                        <span>{p.level && mayWords[p.level]}</span>
                      </span>
                      <span className="block truncate text-muted" title={decides?.sentence ?? p.sentence}>
                        {decides
                          ? `by ${decides.grant.to_name === p.display_name ? "name" : decides.grant.to_name}, on ${decides.grant.path ?? "a folder further up"}`
                          : "owns the shelf"}
                      </span>
                    </li>
                  );
                })}
              </ul>
            </div>
          </div>
        )}
      </div>
      <DialogActions>
        <Button onClick={onClose}>Done</Button>
      </DialogActions>
    </Dialog>
  );
}

function Who({ grant }: { grant: Grant }) {
  const Icon =
    grant.can === "deny"
      ? Ban
      : grant.to === "everyone"
        ? Globe
        : grant.to.startsWith("group:")
          ? Users
          : User;
  return (
    <span className="flex min-w-0 flex-1 items-center gap-2 max-sm:basis-full">
      <Icon size={18} aria-hidden className="shrink-0 text-muted" />
      <span className="min-w-0 truncate">{grant.to_name}</span>
      {grant.until && (
        <span title={exactly(grant.until)}>
          <Chip>{grant.counts ? `until ${shortDay(new Date(grant.until))}` : "over"}</Chip>
        </span>
      )}
    </span>
  );
}

function GiveForm({
  onGive,
}: {
  onGive: (g: { to: string; can: Gives; until?: string; message?: string }) => Promise<unknown>;
}) {
  const people = useQuery({ queryKey: ["people"], queryFn: api.people });
  const [to, setTo] = useState("");
  const [can, setCan] = useState<Gives>("view");
  const [until, setUntil] = useState("");
  const [message, setMessage] = useState("");
  const [refusal, setRefusal] = useState<string>();
  const all = [{ to: "everyone", name: "Everyone" }, ...(people.data?.people ?? [])];
  const word = (p: { to: string; name: string }) =>
    p.to.startsWith("group:") ? `${p.name} (group)` : p.name;
  const submit = async (e: FormEvent) => {
    e.preventDefault();
    const wanted = to.trim().toLowerCase();
    const found = all.find((p) =>
      [word(p), p.name, p.to, p.to.replace("account:", "")].some((w) => w.toLowerCase() === wanted),
    );
    if (!found) {
      setRefusal("Nobody has that name. Choose somebody from the list.");
      return;
    }
    try {
      // The end of the day that was chosen, here.
      const end = until ? new Date(`${until}T23:59:59`).toISOString() : undefined;
      await onGive({ to: found.to, can, until: end, message: message.trim() || undefined });
      setTo("");
      setUntil("");
      setMessage("");
      setRefusal(undefined);
    } catch (problem) {
      setRefusal(problem instanceof Refusal ? `${problem.message} ${problem.remedy}` : String(problem));
    }
  };
  return (
    <form onSubmit={(e) => void submit(e)} className="mt-4 rounded-lg border border-line p-3">
      <div className="grid grid-cols-2 gap-3 max-sm:grid-cols-1">
        <Field
          label="Give to"
          list="whom"
          value={to}
          onChange={(e) => setTo(e.target.value)}
          placeholder="A name or a group"
          error={refusal}
          required
        />
        <datalist id="whom">
          {all.map((p) => (
            <option key={p.to} value={word(p)} />
          ))}
        </datalist>
        <Choice
          label="They may"
          options={levels}
          value={can}
          onChange={(e) => setCan(e.target.value as Gives)}
        />
        <Field
          label="Until (optional)"
          type="date"
          value={until}
          onChange={(e) => setUntil(e.target.value)}
        />
        <Field
          label="A word with it (optional)"
          value={message}
          onChange={(e) => setMessage(e.target.value)}
        />
      </div>
      <div className="mt-3 flex justify-end">
        <Button type="submit" look="primary" disabled={to.trim() === ""}>
          Give
        </Button>
      </div>
    </form>
  );
}
