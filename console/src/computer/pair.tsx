import { useMutation } from "@tanstack/react-query";
import { ArrowDown, ArrowLeftRight, ArrowUp, EllipsisVertical } from "lucide-react";
import { useState, type ReactNode } from "react";
import { count, exactly, size, when } from "../lib/show";
import { Button } from "../ui/button";
import { Chip } from "../ui/chip";
import { Dialog, DialogActions } from "../ui/dialog";
import { Menu, MenuItem, MenuLine } from "../ui/menu";
import { FormError } from "../ui/states";
import { useToast } from "../ui/toast";
import { FilterDialog } from "./filter";
import { here, type Pair, type Way } from "./here";
import { stretch } from "./words";

const ways: Record<Way, [ReactNode, string]> = {
  both: [<ArrowLeftRight key="both" size={17} aria-hidden />, "both ways with"],
  down: [<ArrowDown key="down" size={17} aria-hidden />, "only down from"],
  up: [<ArrowUp key="up" size={17} aria-hidden />, "only up to"],
};

const states: Record<string, [string, "plain" | "gold" | "brick"]> = {
  in_step: ["the same", "plain"],
  working: ["at work", "gold"],
  trouble: ["waiting", "plain"],
  paused: ["paused", "plain"],
  stopped: ["begins", "plain"],
};

/** One pair. */
export function PairPart({ pair }: { pair: Pair }) {
  const toast = useToast();
  const [dialog, setDialog] = useState<"filter" | "end" | "allow">();
  const pausing = useMutation({
    mutationFn: () => here.pause(!pair.paused, pair.id),
    onError: (e) => toast.refuse(e),
  });
  const [icon, word] = ways[pair.way];
  const [state, look] = pair.needs
    ? (["needs you", "brick"] as const)
    : (states[pair.state] ?? states.stopped!);
  const carries = pair.state === "working" && pair.to_do > 0;
  return (
    <section
      aria-label={`${pair.local} and ${pair.remote}`}
      className="mt-7 rounded-xl border border-line bg-sheet"
    >
      <div className="flex items-start gap-3 px-5 pt-4 max-sm:px-4">
        <h2 className="min-w-0 flex-1">
          <span className="font-mono wrap-anywhere">{pair.local}</span>{" "}
          <span className="mx-1 inline-flex translate-y-0.5 text-muted">
            {icon}
            <span className="sr-only">{word}</span>
          </span>{" "}
          <span className="font-mono wrap-anywhere">{pair.remote}</span>
        </h2>
        <Chip look={look}>{state}</Chip>
        <Menu
          label={`Acts on ${pair.local}`}
          trigger={
            <button
              type="button"
              aria-label={`Acts on ${pair.local}`}
              className="-mt-1.5 -mr-2 inline-flex size-9 items-center justify-center rounded-lg text-muted hover:text-ink"
            >
              <EllipsisVertical size={20} aria-hidden />
            </button>
          }
        >
          <MenuItem onSelect={() => pausing.mutate()}>{pair.paused ? "Go on" : "Pause"}</MenuItem>
          <MenuItem onSelect={() => setDialog("filter")}>What it leaves out</MenuItem>
          <MenuLine />
          <MenuItem onSelect={() => setDialog("end")}>End the pair</MenuItem>
        </Menu>
      </div>
      <div className="px-5 pb-4 max-sm:px-4">
        <p className="mt-1 text-muted">
          {count(pair.same, "file and folder").replace("file and folders", "files and folders")} the same
          {carries && `, ${pair.to_do.toLocaleString("en")} to do`}
          {carries && pair.to_move > 0 && ` (${size(pair.to_move)})`}
          {carries && pair.rate > 0 && `, ${size(pair.rate)} a second`}
          {carries && pair.seconds_left !== null && `, about ${stretch(pair.seconds_left)} left`}
          {pair.in_step_at && !carries && (
            <span title={exactly(pair.in_step_at)}>, last so {when(pair.in_step_at)}</span>
          )}
          .
        </p>
        {pair.rests && <p className="text-muted">Nothing is carried: {pair.rests}.</p>}
        {pair.trouble && (
          <p role="alert" className="mt-3 rounded-lg bg-brick-wash p-3">
            {pair.trouble.charAt(0).toUpperCase() + pair.trouble.slice(1)}
            {/[.?]$/.test(pair.trouble) ? "" : "."}
          </p>
        )}
        {pair.asks && (
          <Button className="mt-3" onClick={() => setDialog("allow")}>
            Allow it
          </Button>
        )}
        <Doing pair={pair} />
        <LeftAlone pair={pair} />
        <Leaves pair={pair} onChange={() => setDialog("filter")} />
      </div>
      {dialog === "filter" && <FilterDialog pair={pair} onClose={() => setDialog(undefined)} />}
      {dialog === "end" && <EndDialog pair={pair} onClose={() => setDialog(undefined)} />}
      {dialog === "allow" && <AllowDialog pair={pair} onClose={() => setDialog(undefined)} />}
    </section>
  );
}

/** What moves now, the largest first. */
function Doing({ pair }: { pair: Pair }) {
  const moves = pair.doing.toSorted((a, b) => b.of - a.of).slice(0, 6);
  if (pair.state !== "working" || moves.length === 0) return null;
  const more = pair.doing.length - moves.length;
  return (
    <ul aria-label="What moves now" className="mt-3 space-y-2">
      {moves.map((d) => {
        const part = d.of > 0 ? Math.floor((d.done / d.of) * 100) : 0;
        return (
          <li key={`${d.what} ${d.path}`} className="text-[14.5px]">
            <div className="flex gap-3">
              <span className="min-w-0 flex-1 truncate" title={d.path}>
                <span className="text-muted">{d.what}</span> {d.path}
              </span>
              {d.of > 0 && (
                <span className="shrink-0 text-muted">
                  {size(d.done)} of {size(d.of)}
                </span>
              )}
            </div>
            {d.of >= 1 << 20 && (
              <progress
                className="mt-1 block h-1.5 w-full overflow-hidden rounded-full bg-line [&::-moz-progress-bar]:bg-gold [&::-webkit-progress-bar]:bg-line [&::-webkit-progress-value]:bg-gold"
                aria-label={`${d.path}: ${part} %`}
                max={d.of}
                value={d.done}
              />
            )}
          </li>
        );
      })}
      {more > 0 && <li className="text-[14.5px] text-muted">and {more} more</li>}
    </ul>
  );
}

/** What is not kept the same, each with its reason. */
function LeftAlone({ pair }: { pair: Pair }) {
  if (pair.left.length === 0) return null;
  const shown = pair.left.slice(0, 200);
  return (
    <details className="mt-3">
      <summary className="cursor-pointer text-teal">{count(pair.left.length, "thing")} left alone</summary>
      <ul className="mt-2 max-h-72 space-y-1.5 overflow-y-auto text-[14.5px]">
        {shown.map((l) => (
          <li key={`${l.path} ${l.why}`}>
            <span className="font-mono break-all">{l.path}</span>
            <span className="text-muted">: {l.why}</span>
          </li>
        ))}
        {pair.left.length > shown.length && (
          <li className="text-muted">and {pair.left.length - shown.length} more</li>
        )}
      </ul>
    </details>
  );
}

/** What it leaves out, in one sentence. */
function Leaves({ pair, onChange }: { pair: Pair; onChange: () => void }) {
  const { only, without, patterns, larger } = pair.filter;
  const places = (chosen: { way: string[] }[]) => chosen.map((c) => c.way.join("/")).join(", ");
  const said = [
    only.length > 0 && `only ${places(only)}`,
    without.length > 0 && `not ${places(without)}`,
    patterns.length > 0 && `nothing named like ${patterns.join(", ")}`,
    larger && `no file of more than ${size(larger)}`,
  ].filter(Boolean);
  if (said.length === 0) return null;
  return (
    <p className="mt-3 text-muted">
      It carries {said.join("; ")}
      {pair.out > 0 && ` (${count(pair.out, "file")} left out)`}.{" "}
      <button type="button" className="text-teal underline" onClick={onChange}>
        Change
      </button>
    </p>
  );
}

function EndDialog({ pair, onClose }: { pair: Pair; onClose: () => void }) {
  const toast = useToast();
  const ending = useMutation({
    mutationFn: () => here.end(pair.id),
    onSuccess: () => {
      toast.say(`${pair.local} is kept the same no more.`);
      onClose();
    },
  });
  return (
    <Dialog
      open
      onClose={onClose}
      title="End the pair"
      description={`${pair.local} and ${pair.remote} are kept the same no more. All files stay on both sides as they are.`}
    >
      <FormError error={ending.error} />
      <DialogActions>
        <Button onClick={onClose}>Cancel</Button>
        <Button look="loss" disabled={ending.isPending} onClick={() => ending.mutate()}>
          End it
        </Button>
      </DialogActions>
    </Dialog>
  );
}

function AllowDialog({ pair, onClose }: { pair: Pair; onClose: () => void }) {
  const toast = useToast();
  const allowing = useMutation({
    mutationFn: () => here.allow(pair.id),
    onSuccess: () => {
      toast.say("It goes on.");
      onClose();
    },
  });
  return (
    <Dialog
      open
      onClose={onClose}
      title="Allow what it asks for"
      description="What is removed by it stays in the service's trash and in its history for as long as your service keeps them. If a disk was not mounted or a program ran wild, do not allow it: bring the files back first."
    >
      {pair.trouble && <p className="rounded-lg bg-brick-wash p-3">{pair.trouble}</p>}
      <FormError error={allowing.error} />
      <DialogActions>
        <Button onClick={onClose}>Cancel</Button>
        <Button look="loss" disabled={allowing.isPending} onClick={() => allowing.mutate()}>
          Allow it
        </Button>
      </DialogActions>
    </Dialog>
  );
}
