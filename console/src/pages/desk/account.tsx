import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { ChevronRight } from "lucide-react";
import { useState, type FormEvent, type ReactNode } from "react";
import { Link } from "wouter";
import { api, type Account, type AccountFacts, type Me } from "../../lib/api";
import { findGroups } from "../../lib/choosing";
import { pageAt } from "../../lib/place";
import { count, exactly, plain, shortDay, size, when } from "../../lib/show";
import {
  Button,
  Choice,
  Empty,
  Field,
  FormError,
  Loading,
  Notice,
  Picker,
  Portrait,
  useToast,
  type Choosable,
} from "../../ui";
import { Fullness } from "../account/profile";
import { GivenList } from "../outside/given";
import { mayWords } from "../rights";
import { invite, PassOn, type Invitation } from "./invitation";
import { LeavingDialog } from "./leaving";
import { roles } from "./new-account";
import { Standing } from "./standing";
import { key } from "../../lib/query-keys";

const doors: [string, string][] = [
  ["console", "The console in a browser"],
  ["sync", "Connecting computers"],
  ["dav", "WebDAV: file managers and programs"],
];

/** One account on one page: what it is, what it may reach and why, where it is signed in, what it did. */
export function AccountDesk({ signIn, me }: { signIn: string; me: Me }) {
  const facts = useQuery({ queryKey: key("account", signIn), queryFn: () => api.account(signIn) });
  const own = signIn === me.sign_in;
  return (
    <>
      <nav aria-label="Where" className="flex items-center gap-1 pt-3 text-[14.5px] text-muted">
        <Link href="/desk/people" className="underline-offset-4 hover:text-ink hover:underline">
          People
        </Link>
        <ChevronRight size={15} aria-hidden />
        <span aria-current="page">{facts.data?.account.display_name ?? signIn}</span>
      </nav>
      {facts.isPending && <Loading />}
      {facts.isError && <Notice error={facts.error} retry={() => void facts.refetch()} />}
      {facts.data && <Whole key={signIn} facts={facts.data} own={own} />}
    </>
  );
}

function Whole({ facts, own }: { facts: AccountFacts; own: boolean }) {
  const { account } = facts;
  return (
    <>
      <header className="flex flex-wrap items-center gap-4 py-3">
        <Portrait
          signIn={account.sign_in}
          name={account.display_name}
          picture={account.picture}
          className="size-12 text-lg"
        />
        <div className="min-w-0 flex-1 basis-60">
          <h2 className="truncate text-xl font-bold">{account.display_name}</h2>
          <p className="text-[14.5px] text-muted">
            Signs in as {account.sign_in},{" "}
            <span title={exactly(facts.made)}>here since {when(facts.made)}</span>
            {account.invited_by && `, invited by ${account.invited_by}`}
            {account.seen ? (
              <span title={exactly(account.seen)}>, last signed in {when(account.seen)}</span>
            ) : (
              ", never signed in"
            )}
          </p>
        </div>
        <Standing account={account} />
        <Acts account={account} own={own} />
      </header>
      <div className="grid grid-cols-[minmax(0,400px)_minmax(0,1fr)] items-start gap-x-12 max-lg:grid-cols-1">
        <Facts key={editable(account)} account={account} own={own} />
        <div>
          <SigningIn facts={facts} own={own} />
          <Reaches facts={facts} own={own} />
          <GaveOut facts={facts} />
          <DidLast facts={facts} />
        </div>
      </div>
    </>
  );
}

function Section({ title, children }: { title: string; children: ReactNode }) {
  return (
    <section aria-label={title} className="mt-8 first:mt-0 max-lg:first:mt-8">
      <h3 className="border-b border-line pb-1.5 text-lg font-bold">{title}</h3>
      {children}
    </section>
  );
}

/** What the form shows: only where this changed meanwhile does it begin anew, not when a file came or somebody signed in. */
function editable(a: Account): string {
  return JSON.stringify([a.display_name, a.mail, a.role, a.own_quota && a.quota, a.groups, a.closed]);
}

/** What can be changed of it: all of it is saved in one go. */
function Facts({ account, own }: { account: Account; own: boolean }) {
  const queries = useQueryClient();
  const toast = useToast();
  const before = {
    name: account.display_name,
    mail: account.mail ?? "",
    role: account.role,
    quota: account.own_quota && account.quota !== undefined ? size(account.quota) : "",
    groups: account.groups.map((g): Choosable => ({ key: g, name: g })),
    closed: account.closed ?? [],
  };
  const [now, setNow] = useState(before);
  const set = (change: Partial<typeof before>) => setNow({ ...now, ...change });
  const names = (groups: Choosable[]) => groups.map((g) => g.key).toSorted();
  const changed = {
    ...(now.name.trim() !== before.name && { display_name: now.name.trim() }),
    ...(now.mail.trim() !== before.mail && { mail: now.mail.trim() }),
    ...(now.role !== before.role && { role: now.role }),
    ...(now.quota.trim() !== before.quota && { quota: now.quota.trim() || "none" }),
    ...(names(now.groups).join("\n") !== names(before.groups).join("\n") && { groups: names(now.groups) }),
    ...(now.closed.toSorted().join() !== before.closed.toSorted().join() && { closed: now.closed }),
  };
  const dirty = Object.keys(changed).length > 0;
  const saving = useMutation({
    mutationFn: () => api.changeAccount(account.sign_in, changed),
    onSuccess: async (saved) => {
      toast.say(`Saved ${saved.display_name}.`);
      await queries.invalidateQueries();
    },
  });
  const submit = (e: FormEvent) => {
    e.preventDefault();
    if (dirty) saving.mutate();
  };
  const home = account.role !== "guest";
  return (
    <form aria-label="Facts" onSubmit={submit} className="grid gap-4">
      <Field label="Name" value={now.name} onChange={(e) => set({ name: e.target.value })} required />
      <Field label="Mail" type="email" value={now.mail} onChange={(e) => set({ mail: e.target.value })} />
      <Choice
        label="Role"
        options={account.role === "guest" ? [["guest", "Guest"], ...roles] : roles}
        value={now.role}
        onChange={(e) => set({ role: e.target.value })}
      />
      <Picker
        label="Groups"
        placeholder="Find a group"
        hint="What is given to a group reaches each member."
        of="groups"
        chosen={now.groups}
        onChange={(groups) => set({ groups })}
        find={findGroups}
      />
      {home && (
        <div>
          <Field
            label="Home may hold"
            placeholder={
              account.quota !== undefined && !account.own_quota
                ? `${size(account.quota)}, by its groups`
                : "as much as there is"
            }
            value={now.quota}
            onChange={(e) => set({ quota: e.target.value })}
            hint={account.quota === undefined ? `${size(account.bytes)} are there.` : undefined}
          />
          {account.quota !== undefined && <Fullness used={account.bytes} quota={account.quota} />}
        </div>
      )}
      {!own && (
        <fieldset>
          <legend className="mb-1 font-semibold">Closed to this account</legend>
          {doors.map(([door, word]) => (
            <label key={door} className="flex items-center gap-2 py-0.5">
              <input
                type="checkbox"
                className="size-4 accent-gold"
                checked={now.closed.includes(door)}
                onChange={(e) =>
                  set({
                    closed: e.target.checked ? [...now.closed, door] : now.closed.filter((d) => d !== door),
                  })
                }
              />
              {word}
            </label>
          ))}
          {(account.shut ?? []).some((s) => s.includes("rule") || s.includes("group")) && (
            <p className="mt-1 text-sm text-muted">Closed to it at present: {account.shut?.join(", ")}.</p>
          )}
        </fieldset>
      )}
      <FormError error={saving.error} />
      <div className="flex flex-wrap gap-2">
        <Button type="submit" look="primary" disabled={!dirty || saving.isPending || now.name.trim() === ""}>
          {saving.isPending ? "Saving" : "Save"}
        </Button>
        {dirty && (
          <Button
            look="quiet"
            onClick={() => {
              setNow(before);
              saving.reset();
            }}
          >
            As it was
          </Button>
        )}
      </div>
    </form>
  );
}

/** What is done at once with an account as a whole. */
function Acts({ account, own }: { account: Account; own: boolean }) {
  const queries = useQueryClient();
  const toast = useToast();
  const [leaving, setLeaving] = useState(false);
  const looking = useMutation({
    mutationFn: () => api.beginLook(account.sign_in),
    onSuccess: () => window.location.assign("/"),
    onError: (e) => toast.refuse(e),
  });
  const disabling = useMutation({
    mutationFn: (disabled: boolean) => api.changeAccount(account.sign_in, { disabled }),
    onSuccess: (_, disabled) => {
      const back = () =>
        void api
          .changeAccount(account.sign_in, { disabled: !disabled })
          .then(() => queries.invalidateQueries(), toast.refuse);
      const word = disabled
        ? `${account.display_name} is signed out everywhere and can do nothing. Their files stay.`
        : `${account.display_name} can sign in again.`;
      toast.say(word, { word: "Undo", run: back });
    },
    onError: (e) => toast.refuse(e),
    onSettled: () => queries.invalidateQueries(),
  });
  if (own) return null;
  return (
    <div className="flex flex-wrap items-center gap-2">
      {!account.disabled && account.role !== "administrator" && (
        <Button
          disabled={looking.isPending}
          onClick={() => looking.mutate()}
          title="See every place exactly as they do, for 15 minutes, without changing anything. It is recorded, and they are told unless a rule says otherwise."
        >
          Look as {account.display_name}
        </Button>
      )}
      <Button
        look={account.disabled ? "plain" : "away"}
        disabled={disabling.isPending}
        onClick={() => disabling.mutate(!account.disabled)}
      >
        {account.why_disabled === "waiting" ? "Approve" : account.disabled ? "Enable again" : "Disable"}
      </Button>
      {account.disabled && (
        <Button look="away" onClick={() => setLeaving(true)}>
          {account.leaves ? "Its deletion" : "Delete"}
        </Button>
      )}
      {leaving && (
        <LeavingDialog account={account} onClose={() => setLeaving(false)} onDone={() => setLeaving(false)} />
      )}
    </div>
  );
}

/** A line that can be ended. */
function Line({ name, told, act, word }: { name: string; told: ReactNode; act?: () => void; word?: string }) {
  return (
    <li className="flex items-center gap-3 border-b border-line py-2">
      <div className="min-w-0 flex-1">
        <div className="truncate">{name}</div>
        <div className="truncate text-[14.5px] text-muted">{told}</div>
      </div>
      {act && (
        <Button onClick={act} aria-label={`${word}: ${name}`}>
          {word}
        </Button>
      )}
    </li>
  );
}

function SigningIn({ facts, own }: { facts: AccountFacts; own: boolean }) {
  const queries = useQueryClient();
  const toast = useToast();
  const { account } = facts;
  const [invitation, setInvitation] = useState<Invitation>();
  const fresh = () => queries.invalidateQueries({ queryKey: key("account", account.sign_in) });
  const ending = useMutation({
    mutationFn: ({ run }: { run: () => Promise<void>; said: string }) => run(),
    onSuccess: async (_, { said }) => {
      await fresh();
      toast.say(said);
    },
    onError: (e) => toast.refuse(e),
  });
  const end = (run: () => Promise<void>, said: string) => () => ending.mutate({ run, said });
  const inviting = useMutation({
    mutationFn: () => invite(account),
    onSuccess: async (made) => {
      setInvitation(made);
      await queries.invalidateQueries();
    },
    onError: (e) => toast.refuse(e),
  });
  const nothing = facts.sessions.length + facts.devices.length + facts.factors.length === 0;
  return (
    <Section title="Signing in">
      {nothing && <p className="pt-2 text-muted">Signed in nowhere, with no second factor.</p>}
      <ul>
        {facts.devices.map((d) => (
          <Line
            key={`d${d.id}`}
            name={d.name}
            told={
              <span title={exactly(d.used ?? d.connected)}>
                computer,{" "}
                {d.used
                  ? `last used ${when(d.used)}${d.used_from ? ` from ${d.used_from}` : ""}`
                  : "never used"}
              </span>
            }
            word="Disconnect"
            act={end(() => api.endDeviceOf(account.sign_in, d.id), `"${d.name}" is disconnected.`)}
          />
        ))}
        {facts.sessions.map((s) => (
          <Line
            key={s.id}
            name={browser(s.agent)}
            told={
              <span title={exactly(s.opened)}>
                {s.this ? "this browser" : "browser"}, since {when(s.opened)} from {s.from}
              </span>
            }
            word="Sign out"
            act={s.this ? undefined : end(() => api.endSessionOf(account.sign_in, s.id), "Signed out there.")}
          />
        ))}
        {facts.factors.map((f) => (
          <Line
            key={`f${f.id}`}
            name={f.name}
            told={`${f.kind === "passkey" ? "passkey" : "authenticator"}, ${f.used ? `last used ${when(f.used)}` : "never used"}`}
          />
        ))}
        {facts.invitation && (
          <Line
            name="An invitation that was not used yet"
            told={`made ${when(facts.invitation.made)}${facts.invitation.by ? ` by ${facts.invitation.by}` : ""}, counts until ${shortDay(new Date(facts.invitation.expires))}`}
            word="End"
            act={end(() => api.endInvitation(account.sign_in), "Its address counts no more.")}
          />
        )}
        {facts.uploads.map((u) => (
          <Line
            key={u.id}
            name={plain(u.name)}
            told={`unfinished upload: ${size(u.received)} of ${size(u.size)}, begun ${when(u.begun)}`}
          />
        ))}
      </ul>
      {facts.factors.length > 0 && (
        <p className="pt-1 text-[14.5px] text-muted">{count(facts.recovery_left, "recovery code")} left.</p>
      )}
      {!own && (
        <div className="flex flex-wrap gap-2 pt-3">
          {!account.disabled && (
            <Button
              disabled={inviting.isPending}
              onClick={() => inviting.mutate()}
              title="Makes an address to pass on. A password they have counts until it is used; earlier addresses count no more."
            >
              {account.invited ? "Make another invitation" : "Let them choose a new password"}
            </Button>
          )}
          {account.second_factor && (
            <Button
              look="away"
              disabled={ending.isPending}
              onClick={end(
                () => api.endFactors(account.sign_in),
                `${account.display_name} signs in by password alone now.`,
              )}
            >
              They lost the second factor: take it away
            </Button>
          )}
        </div>
      )}
      {invitation && <PassOn invitation={invitation} onClose={() => setInvitation(undefined)} />}
    </Section>
  );
}

/** What a browser calls itself, in short. */
function browser(agent: string): string {
  return agent.length > 70 ? `${agent.slice(0, 70)}…` : agent || "A browser that does not say its name";
}

function Reaches({ facts, own }: { facts: AccountFacts; own: boolean }) {
  const [all, setAll] = useState(false);
  const shown = all ? facts.reaches : facts.reaches.slice(0, 12);
  return (
    <Section title="May reach, and why">
      {facts.reaches.length === 0 && <p className="pt-2 text-muted">Nothing.</p>}
      <ul>
        {shown.map((r) => (
          <li key={r.node} className="border-b border-line py-2">
            <div className="flex gap-3">
              {r.path === undefined ? (
                <span className="min-w-0 flex-1 truncate" title="You may not see where it is.">
                  {plain(r.name)}
                </span>
              ) : (
                <Link
                  href={pageAt(r.path, r.folder, r.node)}
                  className="min-w-0 flex-1 truncate font-mono text-[14px] text-teal underline-offset-4 hover:underline"
                >
                  {plain(r.path)}
                  {r.path.startsWith("home:") && !own && <span className="text-muted"> (your home)</span>}
                </Link>
              )}
              <span className="text-[14.5px]">{mayWords[r.level]}</span>
            </div>
            <div className="text-[14.5px] text-muted">{r.why.join(" ")}</div>
          </li>
        ))}
      </ul>
      {shown.length < facts.reaches.length && (
        <Button className="mt-2" onClick={() => setAll(true)}>
          All {facts.reaches.length}
        </Button>
      )}
    </Section>
  );
}

function GaveOut({ facts }: { facts: AccountFacts }) {
  const [open, setOpen] = useState(false);
  return (
    <Section title="Gave out">
      {facts.given === 0 && <p className="pt-2 text-muted">Nothing: no link, no intake, no share.</p>}
      {facts.given > 0 && !open && (
        <p className="flex flex-wrap items-center gap-3 pt-2">
          {facts.given === 1 ? "One link, intake or share." : `${facts.given} links, intakes and shares.`}
          <Button onClick={() => setOpen(true)}>Show</Button>
        </p>
      )}
      {open && <GivenList all={false} by={facts.account.sign_in} />}
    </Section>
  );
}

function DidLast({ facts }: { facts: AccountFacts }) {
  const [all, setAll] = useState(false);
  if (facts.record.length === 0) return null;
  const shown = all ? facts.record : facts.record.slice(0, 10);
  return (
    <Section title="Did last">
      {shown.length === 0 && <Empty title="Nothing yet">What it does is written here.</Empty>}
      <ul>
        {shown.map((l) => (
          <li
            key={l.id}
            className="grid grid-cols-[150px_1fr] gap-3 border-b border-line py-1.5 text-[14.5px]"
          >
            <span className="text-muted" title={exactly(l.at)}>
              {when(l.at)}
            </span>
            <span className="min-w-0">
              {l.action}
              {l.what && <span className="break-words text-muted"> {plain(l.what)}</span>}
              {(l.device || l.from) && (
                <span className="text-muted"> ({[l.device, l.from].filter(Boolean).join(", ")})</span>
              )}
            </span>
          </li>
        ))}
      </ul>
      {shown.length < facts.record.length && (
        <Button className="mt-2" onClick={() => setAll(true)}>
          The last {facts.record.length}
        </Button>
      )}
    </Section>
  );
}
