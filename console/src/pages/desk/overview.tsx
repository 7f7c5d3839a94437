import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { Archive, Clock, Gauge, HardDrive, KeyRound, Mail, ShieldAlert, UserPlus } from "lucide-react";
import type { ReactNode } from "react";
import { useLocation } from "wouter";
import { api, type Slowed } from "../../lib/api";
import { jobs } from "../../lib/jobs";
import { kept, type Alarm } from "../../lib/kept";
import { pageOf } from "../../lib/place";
import { count, countInWords, exactly, moment, roomForFiles, size, when } from "../../lib/show";
import { Button, Loading, Notice, useToast } from "../../ui";
import { Growth } from "../space/growth";
import { key } from "../../lib/query-keys";

/** Whose attempts have to wait. */
function waits({ kind, of }: Slowed): string {
  if (kind === "account") return `Sign-ins as ${of} have`;
  if (kind === "second factor") return `Second factors of ${of} have`;
  if (kind === "letters") return `Receipts for ${of} have`;
  if (kind === "link") return `Passwords at link or intake ${of} have`;
  if (kind === "everything") return "All sign-ins together have";
  if (kind === "name") return "Sign-ins under a name that nobody has have";
  if (kind === "browser") return "Sign-ins from a browser that was signed in before have";
  return `Sign-ins from ${of} have`;
}

/** When the next is looked at: mostly in seconds. */
function soon(until: string): string {
  const seconds = Math.max(1, Math.ceil((new Date(until).getTime() - Date.now()) / 1000));
  return seconds <= 120 ? `in ${seconds} s` : when(until);
}

/** What needs a decision first; then how things stand. */
export function Overview() {
  const queries = useQueryClient();
  const toast = useToast();
  const [, go] = useLocation();
  const alarms = useQuery({ queryKey: key("alarms"), queryFn: kept.alarms });
  const quotas = useQuery({ queryKey: key("quotas"), queryFn: kept.quotas });
  const accounts = useQuery({
    queryKey: key("accounts", "waiting"),
    queryFn: () => api.accounts({ state: "waiting", limit: 50 }),
  });
  const people = useQuery({
    queryKey: key("accounts", "count"),
    queryFn: () => api.accounts({ state: "active", limit: 1 }),
  });
  const mail = useQuery({ queryKey: key("mail"), queryFn: api.mail });
  const space = useQuery({ queryKey: key("space"), queryFn: kept.space });
  const clock = useQuery({ queryKey: key("clock"), queryFn: kept.clock });
  // Nothing on the timeline tells of it: it is asked for now and then.
  const store = useQuery({ queryKey: key("store"), queryFn: kept.store, refetchInterval: 30_000 });
  const backup = useQuery({ queryKey: key("jobs"), queryFn: jobs.all, refetchInterval: 30_000 }).data?.backup;
  const slowed = useQuery({ queryKey: key("slowed"), queryFn: api.slowed, refetchInterval: 10_000 });
  const releasing = useMutation({
    mutationFn: api.release,
    onSuccess: async (_, of) => {
      await queries.invalidateQueries({ queryKey: key("slowed") });
      toast.say(`${of} may try again at once.`);
    },
    onError: (e) => toast.refuse(e),
  });
  const confirming = useMutation({
    mutationFn: kept.confirmClock,
    onSuccess: async () => {
      await queries.invalidateQueries({ queryKey: key("clock") });
      toast.say("Rules and schedules go by the clock again.");
    },
    onError: (e) => toast.refuse(e),
  });
  const settling = useMutation({
    mutationFn: (alarm: Alarm) => kept.settle(alarm.id),
    onSuccess: async () => {
      await queries.invalidateQueries({ queryKey: key("alarms") });
      toast.say("Settled. It stays in the record.");
    },
    onError: (e) => toast.refuse(e),
  });
  const failed = [alarms, quotas, accounts, people, mail].find((q) => q.isError);
  const waiting = accounts.data?.accounts ?? [];
  const givenUp = mail.data?.letters.filter((l) => l.state === "given up") ?? [];
  const open = alarms.data?.alarms.filter((a) => !a.settled) ?? [];
  const full = quotas.data?.quotas.filter((q) => q.warns) ?? [];
  const pending = alarms.isPending || quotas.isPending || accounts.isPending || mail.isPending;
  const leapt = clock.data?.leapt_ms;
  const disk = store.data;
  const trouble =
    disk && (disk.stopped.length > 0 || disk.older_catalogue || disk.secrets || disk.durability === "unsafe");
  const nothing =
    open.length + full.length + waiting.length + givenUp.length === 0 &&
    leapt === undefined &&
    !trouble &&
    (!backup || backup.state === "kept") &&
    !slowed.data?.slowed.length;
  const s = space.data;
  return (
    <div className="grid grid-cols-[minmax(0,1fr)_290px] gap-10 pt-3 max-lg:grid-cols-1">
      <div>
        <section aria-label="Needs a decision">
          <h2 className="border-b border-line pb-2 text-xl font-bold">Needs a decision</h2>
          {failed && <Notice error={failed.error} retry={() => void failed.refetch()} />}
          {pending && <Loading rows={3} />}
          {!pending && nothing && !failed && <p className="py-4 text-muted">Nothing does, just now.</p>}
          <ul>
            {leapt !== undefined && clock.data && (
              <Decision
                icon={<Clock size={22} className="text-brick" aria-hidden />}
                title={`The clock of this machine is ${count(Math.round(Math.abs(leapt) / 86_400_000), "day")} ${leapt > 0 ? "ahead of" : "behind"} what the store knows.`}
                acts={
                  <Button look="primary" disabled={confirming.isPending} onClick={() => confirming.mutate()}>
                    The clock is right
                  </Button>
                }
              >
                It says {moment(new Date(clock.data.now))}; the store goes by{" "}
                {moment(new Date(clock.data.kept))}. Until you confirm it, nothing of the past goes and no
                snapshot is taken. If it is wrong, set it right on the machine; if the store is wrong, stop
                the service and give: yatticd clock
              </Decision>
            )}
            {disk?.older_catalogue && (
              <Decision
                icon={<HardDrive size={22} className="text-brick" aria-hidden />}
                title="The catalogue is older than the data beside it."
                acts={null}
              >
                Nothing is swept, packed or let go meanwhile. Stop the service and put the newest catalogue.db
                back; or take this one for the one that counts: yatticd init --accept-older-catalogue
              </Decision>
            )}
            {disk?.secrets && (
              <Decision
                icon={<KeyRound size={22} className="text-brick" aria-hidden />}
                title="Second factors cannot be checked."
                acts={null}
              >
                {disk.secrets} Put the key back: the service finds it by itself. Until then, accounts with a
                second factor sign in by a recovery code only.
              </Decision>
            )}
            {disk?.stopped.map((shelf) => (
              <Decision
                key={shelf.shelf}
                icon={<HardDrive size={22} className="text-brick" aria-hidden />}
                title={`The shelf "${shelf.shelf}" takes no writes.`}
                acts={null}
              >
                {shelf.why} The service looks again by itself; other shelves go on.
              </Decision>
            ))}
            {disk?.durability === "unsafe" && (
              <Decision
                icon={<HardDrive size={22} className="text-brick" aria-hidden />}
                title="A power cut can take away saved files."
                acts={null}
              >
                {disk.why} Move the data folder to ext4 with a journal, xfs or btrfs.
              </Decision>
            )}
            {backup && backup.state !== "kept" && (
              <Decision
                icon={<Archive size={22} className="text-brick" aria-hidden />}
                title={backup.why}
                acts={<Button onClick={() => go("/desk/backups")}>Backups</Button>}
              >
                {backup.last
                  ? `The last whole one was made ${when(backup.last.ended)}.`
                  : "What is on this disk alone is gone with it."}
              </Decision>
            )}
            {open.map((a) => (
              <Decision
                key={a.id}
                icon={<ShieldAlert size={22} className="text-brick" aria-hidden />}
                title={`${a.device ? `"${a.device}"` : "One browser"} of ${a.by ?? "somebody"} changed ${count(a.files, "file")} of ${a.of.toLocaleString("en")} on ${a.shelf}.`}
                acts={
                  <>
                    {a.path && (
                      <Button look="primary" onClick={() => go(pageOf(a.path!, a.before))}>
                        Look and roll back
                      </Button>
                    )}
                    <Button look="quiet" disabled={settling.isPending} onClick={() => settling.mutate(a)}>
                      It is settled
                    </Button>
                  </>
                }
              >
                <span title={exactly(a.from)}>{moment(new Date(a.from))}.</span> What is there now looks like
                noise{a.ending && ` and is called .${a.ending}`}. Last good moment{" "}
                {moment(new Date(a.before_at))}.{" "}
                {a.shut
                  ? a.device
                    ? "That computer was disconnected."
                    : "WebDAV is closed to that account until this is settled, and its browsers are signed out."
                  : "Its doors are still open: the rule only tells of it."}
                {!a.path && " You may not enter there: whoever owns it can roll it back."}
              </Decision>
            ))}
            {slowed.data?.slowed.slice(0, 5).map((who) => (
              <Decision
                key={`${who.kind} ${who.of}`}
                icon={<ShieldAlert size={22} aria-hidden />}
                title={`${waits(who)} to wait after ${count(who.failures, "wrong attempt")}.`}
                acts={
                  <Button disabled={releasing.isPending} onClick={() => releasing.mutate(who.of)}>
                    Let them try again
                  </Button>
                }
              >
                The last one was <span title={exactly(who.last)}>{when(who.last)}</span>, the next is looked
                at <span title={exactly(who.until)}>{soon(who.until)}</span>. Nothing is locked, and browsers
                that were signed in before go on.
              </Decision>
            ))}
            {slowed.data && slowed.data.total > 5 && (
              <li className="py-2 text-muted">
                {count(slowed.data.total - 5, "more")} have to wait: yattic door slowed
              </li>
            )}
            {full.map((q) => (
              <Decision
                key={q.of}
                icon={<Gauge size={22} aria-hidden />}
                title={`${q.name} is ${q.hard ? `${Math.floor((q.used / q.hard) * 100)} % full` : "past its soft line"}.`}
                acts={<Button onClick={() => go("/desk/space")}>Quota or rule</Button>}
              >
                {size(q.used)}
                {q.hard !== undefined && ` of ${size(q.hard)}; ${size(Math.max(0, q.hard - q.used))} left`}
                {q.soft !== undefined && `, soft line at ${size(q.soft)}`}.
              </Decision>
            ))}
            {waiting.length > 0 && (
              <Decision
                icon={<UserPlus size={22} aria-hidden />}
                title={`${countInWords(waiting.length, "person").replace("persons", "people")} signed up and ${waiting.length === 1 ? "waits" : "wait"} for you.`}
                acts={<Button onClick={() => go("/desk/people")}>See who</Button>}
              >
                {waiting.map((a) => a.display_name).join(", ")}
              </Decision>
            )}
            {givenUp.length > 0 && (
              <Decision
                icon={<Mail size={22} aria-hidden />}
                title={`${countInWords(givenUp.length, "letter")} could not be delivered.`}
                acts={<Button onClick={() => go("/desk/mail")}>See why</Button>}
              >
                {givenUp[0]!.to}: {givenUp[0]!.said}
              </Decision>
            )}
          </ul>
        </section>
        <section aria-label="Space" className="mt-8">
          <h2 className="mb-2 text-xl font-bold">Space</h2>
          {space.isPending && <Loading rows={3} />}
          {space.isError && <Notice error={space.error} />}
          {s && (
            <div className="grid grid-cols-[170px_1fr] gap-6 max-sm:grid-cols-1">
              <div>
                <p className="text-3xl font-bold">{size(s.held.all)}</p>
                <p className="text-muted">
                  {s.stored && `${size(s.stored.free)} free on this disk${roomForFiles(s.stored)}`}
                </p>
                <Button look="quiet" className="-ml-3.5 text-teal" onClick={() => go("/desk/space")}>
                  Where it went
                </Button>
              </div>
              <Growth days={s.days} />
            </div>
          )}
        </section>
        {disk && disk.findings.length > 0 && (
          <section aria-label="Found on the disk" className="mt-8">
            <h2 className="border-b border-line pb-2 text-xl font-bold">Found on the disk</h2>
            <ul className="text-[14.5px]">
              {disk.findings.slice(0, 6).map((f, i) => (
                <li key={i} className="flex flex-wrap gap-x-3 border-b border-line py-2">
                  <span className="w-28 text-muted" title={exactly(f.at)}>
                    {moment(new Date(f.at))}
                  </span>
                  <span className="min-w-52 flex-1">
                    <span className="font-semibold">{f.kind}</span>: {f.detail}
                  </span>
                </li>
              ))}
            </ul>
            <p className="pt-2 text-[14.5px] text-muted">
              {disk.findings.length > 6 &&
                `The newest 6 of ${disk.findings.length === 50 ? "50 and more" : disk.findings.length}. `}
              All of them: yatticd check
            </p>
          </section>
        )}
      </div>
      <section aria-label="Now">
        <h2 className="border-b border-line pb-2 text-lg font-bold">Now</h2>
        <dl className="text-[14.5px]">
          {(
            [
              ["People", people.data?.total.toLocaleString("en")],
              ["Shelves", s?.shelves.filter((x) => x.kind === "shared").length.toLocaleString("en")],
              ["Files", s?.held.files.toLocaleString("en")],
              ["History", s && size(s.held.versions + s.held.trash)],
              [
                "Disk",
                disk &&
                  { kept: "safe in a power cut", unsafe: "unsafe", unknown: "not known" }[disk.durability],
              ],
              ["Last backup", backup && (backup.last ? when(backup.last.ended) : "none")],
              ["Letters waiting", mail.data?.letters.filter((l) => l.state === "waiting").length.toString()],
              [
                "Last alarm",
                alarms.data && (alarms.data.alarms[0] ? when(alarms.data.alarms[0].from) : "none"),
              ],
            ] as const
          ).map(([word, value]) => (
            <div key={word} className="flex justify-between border-b border-line py-2">
              <dt>{word}</dt>
              <dd className="font-semibold">{value ?? ""}</dd>
            </div>
          ))}
        </dl>
      </section>
    </div>
  );
}

function Decision({
  icon,
  title,
  acts,
  children,
}: {
  icon: ReactNode;
  title: string;
  acts: ReactNode;
  children: ReactNode;
}) {
  return (
    <li className="flex flex-wrap items-start gap-3 border-b border-line py-3">
      <span className="pt-0.5">{icon}</span>
      <div className="min-w-52 flex-1">
        <p className="font-semibold">{title}</p>
        <p className="text-[14.5px] text-muted">{children}</p>
      </div>
      <div className="flex flex-wrap items-center gap-1">{acts}</div>
    </li>
  );
}
