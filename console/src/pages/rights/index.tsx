import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { Ban, Globe, User, Users, X } from "lucide-react";
import { useState, type FormEvent } from "react";
import { useLocation } from "wouter";
import { api, Refusal, sayingOf, type Gives, type Grant, type Reach } from "../../lib/api";
import { dayOf, endOfDay } from "../../lib/days";
import { levelOf, type Wish } from "../../lib/wish";
import { count, exactly, shortDay } from "../../lib/show";
import {
  Button,
  Chip,
  Choice,
  DayField,
  Dialog,
  DialogActions,
  Field,
  IconButton,
  Loading,
  Notice,
  useToast,
} from "../../ui";
import { key } from "../../lib/query-keys";

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
  const why = useQuery({ queryKey: key("why", node), queryFn: () => api.why(node) });
  const manages = why.data?.level === "manage";
  const reach = useQuery({ queryKey: key("reach", node), queryFn: () => api.reach(node), enabled: manages });
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
  return `${count(reach.people, "person").replace("persons", "people")}${reach.owners.length > 0 ? `, ${reach.owners.join(" and ")} ${reach.owners.length > 1 ? "own" : "owns"} the shelf` : ""}.`;
}

/** Giving and taking access to one file or folder. */
export function RightsDialog({
  node,
  name,
  folder,
  top,
  wish,
  onClose,
}: {
  node: number;
  name: string;
  folder: boolean;
  /** The top of a shelf: nothing can be inherited there. */
  top: boolean;
  /** Access that is asked for: it is filled in. */
  wish?: Wish;
  onClose: () => void;
}) {
  const queries = useQueryClient();
  const reach = useQuery({ queryKey: key("reach", node), queryFn: () => api.reach(node) });
  const welcome = useQuery({ queryKey: key("welcome"), queryFn: api.welcome });
  const administrator = welcome.data?.me?.role === "administrator";
  const who = useQuery({ queryKey: key("who", node), queryFn: () => api.who(node) });
  const toast = useToast();
  const fresh = () =>
    Promise.all([
      queries.invalidateQueries({ queryKey: key("reach") }),
      queries.invalidateQueries({ queryKey: key("who") }),
      queries.invalidateQueries({ queryKey: key("entries") }),
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
  const [passOn, setPassOn] = useState<string>();
  const inviting = useMutation({
    mutationFn: (g: { mail: string; can: Gives; until?: string; message?: string }) =>
      api.inviteGuest({ node, ...g }),
    onSuccess: async (told, g) => {
      await fresh();
      setPassOn(
        told.mailed || !told.address ? undefined : new URL(told.address, window.location.origin).href,
      );
      toast.say(
        told.made
          ? `${g.mail} is a guest now${told.mailed ? " and is told by mail" : ""}.`
          : `${g.mail} has the account "${told.sign_in}" and was given access.`,
      );
    },
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
              <GiveForm
                wish={wish}
                onGive={(g) => change.mutateAsync(g)}
                onInvite={(g) => inviting.mutateAsync(g)}
              />
              {passOn && <PassOn address={passOn} />}
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
        {administrator && folder && !top && <Raise node={node} name={name} onDone={onClose} />}
        <Button onClick={onClose}>Done</Button>
      </DialogActions>
    </Dialog>
  );
}

function PassOn({ address }: { address: string }) {
  return (
    <div role="status" className="mt-3 rounded-lg bg-gold-wash p-3">
      <p>
        No mail server is set. Pass this address on; with it they choose a password, once, within seven days:
      </p>
      <p className="mt-1 font-mono text-[14px] break-all select-all">{address}</p>
    </div>
  );
}

/** Makes a folder a shared shelf: whoever could enter it still can. */
function Raise({ node, name, onDone }: { node: number; name: string; onDone: () => void }) {
  const queries = useQueryClient();
  const toast = useToast();
  const [, go] = useLocation();
  const [open, setOpen] = useState(false);
  const [shelf, setShelf] = useState(name);
  const raising = useMutation({
    mutationFn: () => api.raise(node, shelf.trim()),
    onSuccess: async (made) => {
      onDone();
      go(`/shelf/${encodeURIComponent(made.name)}`);
      await queries.invalidateQueries();
      toast.say(`"${made.name}" is a shared shelf now.`);
    },
  });
  if (!open) {
    return (
      <Button look="quiet" className="mr-auto" onClick={() => setOpen(true)}>
        Make it a shared shelf
      </Button>
    );
  }
  const refusal = raising.error instanceof Refusal ? raising.error : undefined;
  return (
    <form
      className="mr-auto flex flex-wrap items-end gap-2"
      onSubmit={(e) => {
        e.preventDefault();
        raising.mutate();
      }}
    >
      <Field
        label="The shelf's name"
        value={shelf}
        onChange={(e) => setShelf(e.target.value)}
        error={refusal && `${refusal.message} ${refusal.remedy}`}
        autoFocus
        required
      />
      <Button type="submit" look="primary" disabled={raising.isPending || shelf.trim() === ""}>
        Make the shelf
      </Button>
    </form>
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
  wish,
  onGive,
  onInvite,
}: {
  wish?: Wish;
  onGive: (g: { to: string; can: Gives; until?: string; message?: string }) => Promise<unknown>;
  onInvite: (g: { mail: string; can: Gives; until?: string; message?: string }) => Promise<unknown>;
}) {
  const people = useQuery({ queryKey: key("people"), queryFn: api.people });
  const [to, setTo] = useState(wish?.to ?? "");
  const [can, setCan] = useState<Gives>(levelOf(wish) ?? "view");
  const [until, setUntil] = useState(dayOf(wish?.ends));
  const [message, setMessage] = useState(wish?.message ?? "");
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
    try {
      // The end of the day that was chosen, here.
      const end = until ? endOfDay(until) : undefined;
      const more = { can, until: end, message: message.trim() || undefined };
      // A mail address that is in no list is somebody from outside; any other name the service may know.
      if (!found && wanted.includes("@")) await onInvite({ mail: wanted, ...more });
      else await onGive({ to: found?.to ?? `account:${wanted}`, ...more });
      setTo("");
      setUntil("");
      setMessage("");
      setRefusal(undefined);
    } catch (problem) {
      setRefusal(sayingOf(problem));
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
          placeholder="A name, a group, or a mail address"
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
        <DayField label="Until (optional)" value={until} onChange={setUntil} first={dayOf(new Date())} />
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
