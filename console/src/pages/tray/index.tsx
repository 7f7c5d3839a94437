import { ChevronDown, ChevronUp, Pause, Play, RotateCcw, X } from "lucide-react";
import { useState } from "react";
import { count, plain, size, span, when } from "../../lib/show";
import { uploads, useUploads, type Fate, type Sending, type Snapshot } from "../../lib/uploads";
import { Button, Dialog, DialogActions, IconButton } from "../../ui";

/** Lines in sight: what is under way and what failed first. */
const most = 100;
const order: Record<Fate, number> = {
  failed: 0,
  asks: 1,
  "under way": 2,
  waiting: 3,
  stopped: 4,
  skipped: 5,
  same: 6,
  done: 7,
};

/** What is under way, what is done, and what failed and why; on every page. */
export function UploadTray() {
  const now = useUploads();
  const [open, setOpen] = useState(true);
  if (now.all.length === 0 && now.unfinished.length === 0) return null;
  const idle = !now.busy && now.asking.length === 0;
  const failed = now.all.filter((s) => s.state === "failed" || s.state === "stopped");
  return (
    <>
      <section
        aria-label="Uploads"
        className="fixed right-4 bottom-4 z-30 w-[380px] max-w-[calc(100vw-2rem)] rounded-xl border border-line bg-sheet shadow-lg max-sm:bottom-20"
      >
        <div className="flex items-center gap-1 py-1 pr-1 pl-4">
          <span role="status" className="min-w-0 flex-1 font-semibold">
            {headline(now)}
          </span>
          {now.busy &&
            (now.paused ? (
              <IconButton label="Go on" onClick={() => uploads.goOn()}>
                <Play size={18} />
              </IconButton>
            ) : (
              <IconButton label="Pause" onClick={() => uploads.pause()}>
                <Pause size={18} />
              </IconButton>
            ))}
          {idle && failed.length > 0 && (
            <IconButton label="Send all again" onClick={() => uploads.retry(failed.map((s) => s.id))}>
              <RotateCcw size={18} />
            </IconButton>
          )}
          <IconButton label={open ? "Fold up" : "Unfold"} onClick={() => setOpen(!open)}>
            {open ? <ChevronDown size={18} /> : <ChevronUp size={18} />}
          </IconButton>
          {now.busy ? (
            <IconButton label="Stop all" onClick={() => uploads.stopAll()}>
              <X size={18} />
            </IconButton>
          ) : (
            idle &&
            now.all.length > 0 && (
              <IconButton label="Close uploads" onClick={() => uploads.clear()}>
                <X size={18} />
              </IconButton>
            )
          )}
        </div>
        {now.busy && (
          <>
            <Bar part={now.bytes === 0 ? 0 : now.sent / now.bytes} />
            <p className="px-4 pb-1 text-[14px] text-muted">{pace(now)}</p>
          </>
        )}
        {open && <Lines now={now} />}
      </section>
      {now.asking.length > 0 && <Clash asking={now.asking} />}
    </>
  );
}

function headline(now: Snapshot): string {
  if (now.busy) return `${count(now.done + now.same, "file")} of ${now.files.toLocaleString("en")} there`;
  if (now.all.length === 0) return `${count(now.unfinished.length, "upload")} not finished`;
  const same = now.same > 0 ? `, ${now.same.toLocaleString("en")} there already` : "";
  const failed = now.failed > 0 ? `, ${now.failed.toLocaleString("en")} not` : "";
  return `${count(now.done, "file")} sent${same}${failed}`;
}

function pace(now: Snapshot): string {
  const sums = `${size(now.sent)} of ${size(now.bytes)}`;
  if (now.paused) return `${sums}. Paused.`;
  if (now.offline) return `${sums}. The line is broken; it goes on by itself.`;
  if (now.rate === 0 || now.secondsLeft === undefined) return `${sums}.`;
  return `${sums}, ${size(now.rate)}/s, ${span(now.secondsLeft)} left.`;
}

function Lines({ now }: { now: Snapshot }) {
  const lines = now.all
    .filter((s) => (s.state !== "done" && s.state !== "same") || now.all.length <= most)
    .toSorted((a, b) => order[a.state] - order[b.state] || a.id - b.id);
  return (
    <ul className="max-h-64 overflow-y-auto px-4 pb-2" tabIndex={0} aria-label="Files being sent">
      {now.unfinished.map((u) => (
        <li key={u.id} className="py-1.5 text-[14.5px]">
          <div className="flex items-center gap-2">
            <span className="min-w-0 flex-1 truncate" title={plain(u.name)}>
              {plain(u.name)}
            </span>
            <span className="text-muted">{Math.floor((100 * u.received) / Math.max(1, u.size))} %</span>
            <IconButton label={`Forget ${u.name}`} className="size-7" onClick={() => void uploads.forget(u)}>
              <X size={16} />
            </IconButton>
          </div>
          <p className="text-muted">
            Begun {when(u.begun)}. Choose the same file again in its folder, and it goes on from there.
          </p>
        </li>
      ))}
      {lines.slice(0, most).map((s) => (
        <Line key={s.id} s={s} />
      ))}
      {lines.length > most && (
        <li className="py-1.5 text-[14.5px] text-muted">
          and {(lines.length - most).toLocaleString("en")} more
        </li>
      )}
    </ul>
  );
}

function Line({ s }: { s: Sending }) {
  const path = [...s.way, s.name].join("/");
  const again = s.state === "failed" || s.state === "stopped";
  return (
    <li className="py-1.5 text-[14.5px]">
      <div className="flex items-center gap-2">
        <span className="min-w-0 flex-1 truncate" title={path}>
          {path}
        </span>
        <span className={s.state === "failed" ? "text-brick" : "text-muted"}>{stateWord(s)}</span>
        {again ? (
          <IconButton label={`Send ${s.name} again`} className="size-7" onClick={() => uploads.retry([s.id])}>
            <RotateCcw size={16} />
          </IconButton>
        ) : (
          (s.state === "waiting" || s.state === "under way") && (
            <IconButton label={`Stop ${s.name}`} className="size-7" onClick={() => uploads.stop(s.id)}>
              <X size={16} />
            </IconButton>
          )
        )}
      </div>
      {s.why && s.state === "failed" && <p className="text-brick">{s.why}</p>}
    </li>
  );
}

function stateWord(s: Sending): string {
  if (s.state === "under way" && s.file.size > 0) return `${Math.floor((100 * s.sent) / s.file.size)} %`;
  if (s.state === "failed") return "not sent";
  if (s.state === "asks") return "there already";
  if (s.state === "same") return "there already, the same";
  return s.state;
}

/** Asked once for all that came together. */
function Clash({ asking }: { asking: Sending[] }) {
  const batch = asking[0]!.batch;
  const these = asking.filter((s) => s.batch === batch);
  const one = these.length === 1;
  return (
    <Dialog
      open
      onClose={() => uploads.decide(batch, "skip")}
      title={one ? `"${these[0]!.name}" is there already` : `${these.length} files are there already`}
      description={
        one
          ? "A file of that name is in the folder."
          : "Files of these names are in the folder. The answer counts for all that was added together."
      }
    >
      <ul className="max-h-40 overflow-y-auto rounded-lg border border-line px-3 py-1.5 text-[14.5px]">
        {these.slice(0, 50).map((s) => (
          <li key={s.id} className="truncate py-0.5">
            {[...s.way, s.name].join("/")}
          </li>
        ))}
        {these.length > 50 && <li className="py-0.5 text-muted">and {these.length - 50} more</li>}
      </ul>
      <p className="mt-3 text-[14.5px] text-muted">
        Replaced files keep their earlier states in the history.
      </p>
      <DialogActions>
        <Button onClick={() => uploads.decide(batch, "skip")}>Leave out</Button>
        <Button onClick={() => uploads.decide(batch, "keep both")}>Keep both</Button>
        <Button look="primary" onClick={() => uploads.decide(batch, "replace")}>
          Replace
        </Button>
      </DialogActions>
    </Dialog>
  );
}

function Bar({ part }: { part: number }) {
  return (
    <div
      role="progressbar"
      aria-label="Bytes sent"
      aria-valuemin={0}
      aria-valuemax={100}
      aria-valuenow={Math.floor(part * 100)}
      className="mx-4 mb-1 h-1.5 overflow-hidden rounded bg-line"
    >
      <div className="h-full bg-gold" style={{ width: `${Math.min(100, part * 100)}%` }} />
    </div>
  );
}
