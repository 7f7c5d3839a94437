import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { FileUp, Plus, Search } from "lucide-react";
import { useState, type FormEvent } from "react";
import { api, Refusal, type Account, type Me } from "../../lib/api";
import { count, exactly, shortDay, size, when } from "../../lib/show";
import {
  Button,
  Chip,
  Choice,
  Dialog,
  DialogActions,
  Empty,
  Field,
  Loading,
  Notice,
  Portrait,
  useToast,
} from "../../ui";
import { ImportDialog } from "./importing";
import { LeavingDialog } from "./leaving";

const roles: [string, string][] = [
  ["member", "Member"],
  ["administrator", "Administrator"],
];

function said(error: unknown): string | undefined {
  if (!error) return undefined;
  return error instanceof Refusal ? `${error.message} ${error.remedy}` : String(error);
}

/** All accounts: found, made, changed, disabled. */
export function People({ me }: { me: Me }) {
  const accounts = useQuery({ queryKey: ["accounts"], queryFn: api.accounts });
  const [text, setText] = useState("");
  const [open, setOpen] = useState<Account | "new">();
  const [importing, setImporting] = useState(false);
  const [most, setMost] = useState(step);
  const [invitation, setInvitation] = useState<Invitation>();
  const wanted = text.trim().toLowerCase();
  const all = accounts.data?.accounts ?? [];
  const shown = all.filter((a) =>
    [a.sign_in, a.display_name, a.mail ?? "", ...a.groups].some((w) => w.toLowerCase().includes(wanted)),
  );
  return (
    <>
      <div className="flex flex-wrap items-center gap-3 py-3">
        <Button look="primary" icon={<Plus size={18} />} onClick={() => setOpen("new")}>
          New account
        </Button>
        <Button icon={<FileUp size={18} />} onClick={() => setImporting(true)}>
          From a list
        </Button>
        <label className="relative ml-auto block w-64 max-sm:ml-0 max-sm:w-full">
          <span className="sr-only">Find a person or group</span>
          <Search size={17} aria-hidden className="absolute top-2.5 left-3 text-muted" />
          <input
            type="search"
            value={text}
            onChange={(e) => setText(e.target.value)}
            placeholder="Name, mail or group"
            className="min-h-9 w-full rounded-lg border border-line bg-sheet py-1.5 pr-3 pl-9"
          />
        </label>
      </div>
      {accounts.isPending && <Loading />}
      {accounts.isError && <Notice error={accounts.error} retry={() => void accounts.refetch()} />}
      {accounts.data && (
        <>
          <p className="pb-1 text-[14.5px] text-muted" role="status">
            {wanted ? `${count(shown.length, "account")} of ${all.length}` : count(all.length, "account")}
          </p>
          {shown.length === 0 && <Empty title="Nobody matches">Try a part of the name.</Empty>}
          <ul>
            {shown.slice(0, most).map((a) => (
              <li key={a.sign_in} className="border-b border-line">
                <button
                  type="button"
                  onClick={() => setOpen(a)}
                  className="grid w-full grid-cols-[28px_1.2fr_1fr_1.6fr_180px] items-center gap-3 px-1 py-2.5 text-left hover:bg-sheet max-md:grid-cols-[28px_1fr_auto]"
                >
                  <Portrait
                    signIn={a.sign_in}
                    name={a.display_name}
                    picture={a.picture}
                    className="size-7 text-[11px]"
                  />
                  <span className="min-w-0 truncate">
                    {a.display_name} <span className="text-[14px] text-muted">{a.sign_in}</span>
                  </span>
                  <span className="max-md:justify-self-end">
                    <Standing account={a} />
                  </span>
                  <span className="min-w-0 truncate text-[14.5px] text-muted max-md:hidden">
                    {a.groups.join(", ") || "in no group"}
                  </span>
                  <span className="text-right font-mono text-[14px] max-md:hidden">
                    {a.role === "guest" ? "" : size(a.bytes)}
                    {a.quota !== undefined && (
                      <span className={a.bytes >= a.quota * 0.9 ? "text-brick" : "text-muted"}>
                        {" "}
                        of {size(a.quota)}
                      </span>
                    )}
                  </span>
                </button>
              </li>
            ))}
          </ul>
          {shown.length > most && (
            <Button className="mt-3" onClick={() => setMost(most + step)}>
              Show more of {count(shown.length, "account")}
            </Button>
          )}
        </>
      )}
      {importing && <ImportDialog onClose={() => setImporting(false)} />}
      {open === "new" && <NewAccount onClose={() => setOpen(undefined)} onInvited={setInvitation} />}
      {invitation && <PassOn invitation={invitation} onClose={() => setInvitation(undefined)} />}
      {open && open !== "new" && (
        <AccountDialog
          account={all.find((a) => a.sign_in === open.sign_in) ?? open}
          own={open.sign_in === me.sign_in}
          onInvited={(made) => {
            setOpen(undefined);
            setInvitation(made);
          }}
          onClose={() => setOpen(undefined)}
        />
      )}
    </>
  );
}

/** So many accounts are drawn at first. */
const step = 300;

/** What is worth saying of an account first. */
function Standing({ account: a }: { account: Account }) {
  if (a.leaves) {
    return (
      <span title={exactly(a.leaves)}>
        <Chip look="brick">is deleted {when(a.leaves)}</Chip>
      </span>
    );
  }
  if (a.why_disabled === "waiting") return <Chip look="gold">waits to be approved</Chip>;
  if (a.disabled) {
    return (
      <span title={exactly(a.disabled)}>
        <Chip look="brick">
          {a.why_disabled === "away" ? "away too long, disabled" : `disabled ${when(a.disabled)}`}
        </Chip>
      </span>
    );
  }
  if (a.invited) return <Chip>no password yet</Chip>;
  if (a.role === "administrator") return <Chip look="gold">administrator</Chip>;
  if (a.role === "guest") return <Chip>guest</Chip>;
  return <span className="text-[14.5px] text-muted max-md:hidden">member</span>;
}

interface Invitation {
  name: string;
  address: string;
  expires: string;
  mailed: boolean;
}

/** Makes the address by which somebody chooses a password. */
async function invite(account: Account): Promise<Invitation> {
  const made = await api.invite(account.sign_in);
  return {
    name: account.display_name,
    address: new URL(made.address, window.location.origin).href,
    expires: made.expires,
    mailed: made.mailed,
  };
}

function PassOn({ invitation, onClose }: { invitation: Invitation; onClose: () => void }) {
  const toast = useToast();
  const copy = () =>
    void navigator.clipboard.writeText(invitation.address).then(
      () => toast.say("Copied."),
      () => toast.say("The browser does not let us copy. Select the address and copy it."),
    );
  return (
    <Dialog
      open
      onClose={onClose}
      title={invitation.mailed ? `Sent to ${invitation.name}` : `Pass this on to ${invitation.name}`}
      description={`${invitation.mailed ? "It goes out by mail; you can pass it on as well. " : ""}With this address they choose a password. It counts once, until ${shortDay(new Date(invitation.expires))}, and is shown only here.`}
    >
      <Field
        label="Address"
        readOnly
        value={invitation.address}
        onFocus={(e) => e.target.select()}
        className="font-mono text-[14px]"
      />
      <DialogActions>
        <Button onClick={copy}>Copy</Button>
        <Button look="primary" onClick={onClose}>
          Done
        </Button>
      </DialogActions>
    </Dialog>
  );
}

function GroupBoxes({ chosen, onChange }: { chosen: string[]; onChange: (groups: string[]) => void }) {
  const groups = useQuery({ queryKey: ["groups"], queryFn: api.groups });
  if (!groups.data || groups.data.groups.length === 0) return null;
  return (
    <fieldset className="mt-4">
      <legend className="mb-1 font-semibold">Groups</legend>
      <div className="grid grid-cols-2 gap-x-4 gap-y-1.5 max-sm:grid-cols-1">
        {groups.data.groups.map((g) => (
          <label key={g.name} className="flex items-center gap-2">
            <input
              type="checkbox"
              className="size-4 accent-gold"
              checked={chosen.includes(g.name)}
              onChange={(e) =>
                onChange(e.target.checked ? [...chosen, g.name] : chosen.filter((n) => n !== g.name))
              }
            />
            {g.name}
          </label>
        ))}
      </div>
    </fieldset>
  );
}

function NewAccount({ onClose, onInvited }: { onClose: () => void; onInvited: (made: Invitation) => void }) {
  const queries = useQueryClient();
  const toast = useToast();
  const [name, setName] = useState("");
  const [signIn, setSignIn] = useState("");
  // Once somebody has chosen one, the name says nothing more about it.
  const [chose, setChose] = useState(false);
  const [mail, setMail] = useState("");
  const [role, setRole] = useState("member");
  const [first, setFirst] = useState("link");
  const [password, setPassword] = useState("");
  const [groups, setGroups] = useState<string[]>([]);
  const [quota, setQuota] = useState("");
  const making = useMutation({
    mutationFn: () =>
      api.makeAccount({
        sign_in: signIn,
        display_name: name,
        mail: mail.trim() || undefined,
        role,
        password: first === "link" ? undefined : password,
        groups,
        quota: quota.trim() || undefined,
      }),
    onSuccess: async (made) => {
      await queries.invalidateQueries();
      onClose();
      if (first !== "link") {
        toast.say(`${made.display_name} can sign in as ${made.sign_in}.`);
        return;
      }
      await invite(made).then(onInvited, toast.refuse);
    },
  });
  const submit = (e: FormEvent) => {
    e.preventDefault();
    making.mutate();
  };
  return (
    <Dialog open onClose={onClose} title="New account" description="With a home shelf of its own.">
      <form onSubmit={submit} className="min-h-0 overflow-y-auto px-0.5">
        <Field
          label="Name"
          value={name}
          onChange={(e) => {
            setName(e.target.value);
            const first = e.target.value.trim().split(/\s+/)[0] ?? "";
            if (chose) return;
            setSignIn(
              first
                .normalize("NFD")
                .toLowerCase()
                .replace(/[^a-z0-9._-]/g, ""),
            );
          }}
          autoFocus
        />
        <div className="mt-4 grid grid-cols-2 gap-4 max-sm:grid-cols-1">
          <Field
            label="Sign-in name"
            value={signIn}
            onChange={(e) => {
              setSignIn(e.target.value);
              setChose(e.target.value !== "");
            }}
            required
          />
          <Choice label="Role" options={roles} value={role} onChange={(e) => setRole(e.target.value)} />
        </div>
        <Field
          className="mt-4"
          label="Mail (optional)"
          type="email"
          value={mail}
          onChange={(e) => setMail(e.target.value)}
        />
        <Choice
          className="mt-4"
          label="They first sign in"
          options={[
            ["link", "by an address that I pass on"],
            ["password", "with a password that I hand over"],
          ]}
          value={first}
          onChange={(e) => setFirst(e.target.value)}
        />
        {first === "password" && (
          <Field
            className="mt-4"
            label="First password"
            type="text"
            autoComplete="off"
            value={password}
            onChange={(e) => setPassword(e.target.value)}
            hint="It is shown nowhere again."
            required
          />
        )}
        <GroupBoxes chosen={groups} onChange={setGroups} />
        <Field
          className="mt-4"
          label="Home may hold (optional)"
          placeholder="20 GiB"
          hint="Without it, what its groups say."
          value={quota}
          onChange={(e) => setQuota(e.target.value)}
        />
        {making.error && (
          <p role="alert" className="mt-4 rounded-lg bg-brick-wash p-3">
            {said(making.error)}
          </p>
        )}
        <DialogActions>
          <Button onClick={onClose}>Cancel</Button>
          <Button
            type="submit"
            look="primary"
            disabled={making.isPending || signIn === "" || (first === "password" && password === "")}
          >
            Make account
          </Button>
        </DialogActions>
      </form>
    </Dialog>
  );
}

function AccountDialog({
  account,
  own,
  onClose,
  onInvited,
}: {
  account: Account;
  own: boolean;
  onClose: () => void;
  onInvited: (made: Invitation) => void;
}) {
  const queries = useQueryClient();
  const toast = useToast();
  const [name, setName] = useState(account.display_name);
  const [mail, setMail] = useState(account.mail ?? "");
  const [role, setRole] = useState<string>(account.role);
  const [groups, setGroups] = useState(account.groups);
  const before = account.own_quota && account.quota !== undefined ? size(account.quota) : "";
  const [quota, setQuota] = useState(before);
  const [closed, setClosed] = useState(account.closed ?? []);
  const [leaving, setLeaving] = useState(false);
  const looking = useMutation({
    mutationFn: () => api.beginLook(account.sign_in),
    onSuccess: async () => {
      window.location.assign("/");
    },
  });
  const forgetting = useMutation({
    mutationFn: () => api.endFactors(account.sign_in),
    onSuccess: async () => {
      await queries.invalidateQueries();
      toast.say(`${account.display_name} signs in by password alone now.`);
      onClose();
    },
  });
  const inviting = useMutation({ mutationFn: () => invite(account), onSuccess: onInvited });
  const saving = useMutation({
    mutationFn: async () => {
      const changed = {
        ...(name.trim() !== account.display_name && { display_name: name.trim() }),
        ...(mail.trim() !== (account.mail ?? "") && { mail: mail.trim() }),
        ...(role !== account.role && { role }),
        ...(quota.trim() !== before && { quota: quota.trim() || "none" }),
        ...(closed.join() !== (account.closed ?? []).join() && { closed }),
      };
      if (Object.keys(changed).length > 0) await api.changeAccount(account.sign_in, changed);
      for (const group of groups.filter((g) => !account.groups.includes(g))) {
        await api.changeGroup(group, { add: [account.sign_in] });
      }
      for (const group of account.groups.filter((g) => !groups.includes(g))) {
        await api.changeGroup(group, { remove: [account.sign_in] });
      }
    },
    onSuccess: () => {
      toast.say(`Saved ${name}.`);
      onClose();
    },
    onSettled: () => queries.invalidateQueries(),
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
      onClose();
    },
    onSettled: () => queries.invalidateQueries(),
  });
  const submit = (e: FormEvent) => {
    e.preventDefault();
    saving.mutate();
  };
  const refusal = said(
    saving.error ?? disabling.error ?? inviting.error ?? looking.error ?? forgetting.error,
  );
  return (
    <Dialog
      open
      onClose={onClose}
      title={account.display_name}
      description={`Signs in as ${account.sign_in}; ${size(account.bytes)} at home.`}
    >
      <form onSubmit={submit} className="min-h-0 overflow-y-auto px-0.5">
        <div className="grid grid-cols-2 gap-4 max-sm:grid-cols-1">
          <Field label="Name" value={name} onChange={(e) => setName(e.target.value)} required />
          <Choice
            label="Role"
            options={account.role === "guest" ? [["guest", "Guest"], ...roles] : roles}
            value={role}
            onChange={(e) => setRole(e.target.value)}
          />
          <Field label="Mail" type="email" value={mail} onChange={(e) => setMail(e.target.value)} />
          {account.role !== "guest" && (
            <Field
              label="Home may hold"
              placeholder={
                account.quota !== undefined && !account.own_quota
                  ? `${size(account.quota)}, by its groups`
                  : "as much as there is"
              }
              value={quota}
              onChange={(e) => setQuota(e.target.value)}
            />
          )}
        </div>
        <GroupBoxes chosen={groups} onChange={setGroups} />
        {!own && (
          <fieldset className="mt-4">
            <legend className="mb-1 font-semibold">Closed to this account</legend>
            <div className="grid grid-cols-2 gap-x-4 max-sm:grid-cols-1">
              {doors.map(([door, word]) => (
                <label key={door} className="flex items-center gap-2">
                  <input
                    type="checkbox"
                    className="size-4 accent-gold"
                    checked={closed.includes(door)}
                    onChange={(e) =>
                      setClosed(e.target.checked ? [...closed, door] : closed.filter((d) => d !== door))
                    }
                  />
                  {word}
                </label>
              ))}
            </div>
            {(account.shut ?? []).some((s) => s.includes("rule")) && (
              <p className="mt-1 text-sm text-muted">Closed by a rule as well: {account.shut?.join(", ")}.</p>
            )}
          </fieldset>
        )}
        {!own && account.second_factor && (
          <p className="mt-4 flex flex-wrap items-center gap-3">
            Has a second factor.
            <Button disabled={forgetting.isPending} onClick={() => forgetting.mutate()}>
              They have lost it: take it away
            </Button>
          </p>
        )}
        {!own && !account.disabled && account.role !== "administrator" && (
          <div className="mt-4">
            <Button disabled={looking.isPending} onClick={() => looking.mutate()}>
              Look as {account.display_name}
            </Button>
            <p className="mt-1 text-sm text-muted">
              See every place exactly as they do, for 15 minutes, without changing anything. It is recorded,
              and they are told unless a rule says otherwise.
            </p>
          </div>
        )}
        {!own && !account.disabled && (
          <div className="mt-4">
            <Button disabled={inviting.isPending} onClick={() => inviting.mutate()}>
              {account.invited ? "Make another invitation" : "Let them choose a new password"}
            </Button>
            <p className="mt-1 text-sm text-muted">
              {account.invited
                ? "They have not chosen a password yet. Earlier addresses count no more then."
                : "Makes an address to pass on. Their present password counts until they have used it."}
            </p>
          </div>
        )}
        {refusal && (
          <p role="alert" className="mt-4 rounded-lg bg-brick-wash p-3">
            {refusal}
          </p>
        )}
        <DialogActions>
          {!own && (
            <Button
              look={account.disabled ? "plain" : "quiet"}
              className={`mr-auto ${account.disabled ? "" : "text-brick"}`}
              disabled={disabling.isPending}
              onClick={() => disabling.mutate(!account.disabled)}
            >
              {account.why_disabled === "waiting" ? "Approve" : account.disabled ? "Enable again" : "Disable"}
            </Button>
          )}
          {!own && account.disabled && (
            <Button look="quiet" className="text-brick" onClick={() => setLeaving(true)}>
              {account.leaves ? "Its deletion" : "Delete"}
            </Button>
          )}
          <Button onClick={onClose}>Cancel</Button>
          <Button type="submit" look="primary" disabled={saving.isPending || name.trim() === ""}>
            Save
          </Button>
        </DialogActions>
      </form>
      {leaving && (
        <LeavingDialog
          account={account}
          onClose={() => setLeaving(false)}
          onDone={() => {
            setLeaving(false);
            onClose();
          }}
        />
      )}
    </Dialog>
  );
}

const doors: [string, string][] = [
  ["console", "The console in a browser"],
  ["sync", "Connecting computers"],
  ["dav", "WebDAV: file managers and programs"],
];
