import { useMutation } from "@tanstack/react-query";
import { ArrowDown, ArrowUp, FolderSync, Moon, Pause, Play, Plus, Sun } from "lucide-react";
import { useState } from "react";
import { count, exactly, size, when } from "../lib/show";
import { Button, IconButton } from "../ui/button";
import { Mark } from "../ui/mark";
import { Empty, Loading, Notice } from "../ui/states";
import { useTheme } from "../ui/theme";
import { useToast } from "../ui/toast";
import { here, type Now } from "./here";
import { LimitsPart } from "./limits";
import { useNow } from "./live";
import { MountsPart } from "./mounts";
import { NewPairDialog } from "./new-pair";
import { PairPart } from "./pair";
import { TwicePart } from "./twice";
import { stretch } from "./words";

/** What all pairs do together, in one sentence. */
function sum(now: Now): string {
  const { pairs } = now;
  const needs = pairs.filter((p) => p.needs).length;
  const away = pairs.find((p) => p.trouble !== undefined && !p.needs);
  const toDo = pairs.reduce((n, p) => n + p.to_do, 0);
  const toMove = pairs.reduce((n, p) => n + p.to_move, 0);
  const rate = pairs.reduce((n, p) => n + p.rate, 0);
  if (needs > 0) return needs === 1 ? "One pair needs you." : `${needs} pairs need you.`;
  if (away) return "Waiting: what is in the way stands below.";
  if (pairs.every((p) => p.paused)) return "Paused: nothing is carried.";
  if (pairs.some((p) => p.state === "working")) {
    const left = rate > 0 && toMove > 0 ? `, about ${stretch(Math.ceil(toMove / rate))} left` : "";
    const bytes = toMove > 0 ? ` (${size(toMove)}${left})` : "";
    return toDo > 0 ? `At work: ${count(toDo, "thing")} to do${bytes}.` : "At work.";
  }
  if (pairs.some((p) => p.rests)) return "Resting: nothing is carried for now.";
  return "All is the same.";
}

/** The same of all that is mounted too. */
function inAll(now: Now): string {
  const mounted = now.mounts.flatMap((m) => (m.sums ? [m.sums] : []));
  if (mounted.some((sums) => sums.trouble.length > 0)) return "A mounted folder needs you.";
  const owed = mounted.reduce((n, sums) => n + sums.owed, 0);
  if (now.pairs.length > 0) return owed > 0 ? `${sum(now)} ${size(owed)} are to be sent up.` : sum(now);
  if (now.mounts.length === 0) return "Nothing is kept the same yet.";
  if (mounted.length === 0) return "Nothing is mounted now.";
  return owed > 0 ? `${size(owed)} are to be sent up.` : "All is sent up.";
}

/** This computer: its pairs, what they do, and all that can be set. */
export function Computer() {
  const { now, broken } = useNow();
  const [adding, setAdding] = useState(false);
  const toast = useToast();
  const pausing = useMutation({
    mutationFn: (paused: boolean) => here.pause(paused),
    onError: (e) => toast.refuse(e),
  });
  const { theme, toggle } = useTheme();
  const none = now?.pairs.length === 0;
  const paused = now !== undefined && !none && now.pairs.every((p) => p.paused);
  const add = (
    <Button look="primary" icon={<Plus size={18} aria-hidden />} onClick={() => setAdding(true)}>
      Keep a folder the same
    </Button>
  );
  return (
    <div className="mx-auto max-w-[920px] px-8 pt-6 pb-14 max-sm:px-4">
      <header className="flex flex-wrap items-center gap-x-4 gap-y-3">
        <Mark />
        <div className="min-w-48 flex-1">
          <h1 className="truncate text-xl font-bold">{now ? now.computer : "This computer"}</h1>
          <p className="text-muted" role="status">
            {now && !broken ? inAll(now) : " "}
          </p>
        </div>
        <IconButton label={theme === "dark" ? "Light" : "Dark"} onClick={toggle}>
          {theme === "dark" ? <Sun size={20} /> : <Moon size={20} />}
        </IconButton>
        {now && !none && (
          <Button
            icon={paused ? <Play size={17} aria-hidden /> : <Pause size={17} aria-hidden />}
            disabled={pausing.isPending}
            onClick={() => pausing.mutate(!paused)}
          >
            {paused ? "Go on" : "Pause all"}
          </Button>
        )}
        {now && (!none || now.mounts.length > 0) && add}
      </header>
      <main id="main">
        {broken && <Notice error={broken} />}
        {!now && !broken && <Loading rows={4} />}
        {now && none && now.mounts.length === 0 && !broken && (
          <Empty title="No folder is kept the same yet" action={add}>
            Choose a folder on this computer and one of the service. What changes in one of them comes to the
            other, and nothing that was ever saved is lost by it.
          </Empty>
        )}
        {now && !broken && <TwicePart copies={now.copies} pairs={now.pairs} />}
        {now && !broken && now.pairs.map((pair) => <PairPart key={pair.id} pair={pair} />)}
        {now && !broken && <MountsPart mounts={now.mounts} />}
        {now && !none && !broken && <Lately now={now} />}
        {now && !broken && <LimitsPart limits={now.limits} />}
      </main>
      {now && (
        <footer className="mt-10 border-t border-line pt-3 text-[14.5px] text-muted">
          {Object.entries(now.services).map(([address, name]) => (
            <p key={address}>
              Connected to{" "}
              <a className="text-teal underline" href={address} target="_blank" rel="noreferrer">
                {address}
              </a>{" "}
              as {name}
            </p>
          ))}
          {Object.keys(now.services).length === 0 && (
            <p>
              This computer is connected to no service. In a terminal:{" "}
              <code className="font-mono">yattic connect ADDRESS</code>
            </p>
          )}
          <p>{now.program}</p>
        </footer>
      )}
      {adding && now && <NewPairDialog now={now} onClose={() => setAdding(false)} />}
    </div>
  );
}

const deeds: Record<string, string> = {
  fetches: "fetched",
  sends: "sent",
  "makes here": "made here",
  "makes there": "made there",
  "moves here": "moved here",
  "moves there": "moved there",
  "keeps beside": "kept beside",
  "removes here": "removed here",
  "removes there": "removed there",
  "brings back": "brought back",
  "marks here": "marked here",
  "marks there": "marked there",
};

/** What was done last, in all pairs. */
function Lately({ now }: { now: Now }) {
  const several = now.pairs.length > 1;
  const all = now.pairs
    .flatMap((pair) => pair.lately.map((deed) => ({ ...deed, pair })))
    .toSorted((a, b) => b.at.localeCompare(a.at))
    .slice(0, 10);
  if (all.length === 0) return null;
  return (
    <section aria-label="Lately" className="mt-8">
      <h2 className="border-b border-line pb-2 text-lg font-bold">Lately</h2>
      <ul>
        {all.map((deed, n) => (
          <li
            key={`${deed.at} ${deed.path} ${n}`}
            className="flex items-baseline gap-3 border-b border-line py-1.5 text-[14.5px]"
          >
            {deed.what === "fetches" ? (
              <ArrowDown size={15} aria-hidden className="shrink-0 translate-y-0.5 text-muted" />
            ) : deed.what === "sends" ? (
              <ArrowUp size={15} aria-hidden className="shrink-0 translate-y-0.5 text-muted" />
            ) : (
              <FolderSync size={15} aria-hidden className="shrink-0 translate-y-0.5 text-muted" />
            )}
            <span className="min-w-0 flex-1 break-words">
              <span className="text-muted">{deeds[deed.what] ?? deed.what}</span> {deed.path}
              {several && <span className="text-muted"> in {deed.pair.local}</span>}
            </span>
            <span className="shrink-0 text-muted" title={exactly(deed.at)}>
              {when(deed.at)}
            </span>
          </li>
        ))}
      </ul>
    </section>
  );
}
