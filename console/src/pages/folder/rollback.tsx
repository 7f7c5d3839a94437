import { keepPreviousData, useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { Undo2, X } from "lucide-react";
import { useDeferredValue, useEffect, useState } from "react";
import { kept, type Rollback, type RollbackLine } from "../../lib/kept";
import { count, moment, size, span, when } from "../../lib/show";
import { Button, IconButton, Loading, Notice, useToast } from "../../ui";
import { key } from "../../lib/query-keys";

interface Props {
  folder: { id: number; name: string };
  at: string;
  onClose: () => void;
  onNow: () => void;
}

/** What rolling a folder back to the moment shown would do; then, how far it is. */
export function RollbackPanel({ folder, at, onClose, onNow }: Props) {
  const queries = useQueryClient();
  const toast = useToast();
  const [keeping, setKeeping] = useState(true);
  const [keep, setKeep] = useState<number[]>([]);
  const [begun, setBegun] = useState<Rollback>();
  // While the handle is dragged on, nothing is worked out.
  const to = useDeferredValue(at);
  useEffect(() => {
    setBegun(undefined);
    setKeep([]);
  }, [folder.id, at]);
  const first = useQuery({
    queryKey: key("rollback preview", folder.id, to, ""),
    queryFn: () => kept.lookAtRollback(folder.id, to, []),
    enabled: begun === undefined,
  });
  const others = first.data?.lines.filter((l) => l.others) ?? [];
  const wanted = keeping ? [...new Set([...others.map((l) => l.node), ...keep])] : keep;
  const second = useQuery({
    queryKey: key("rollback preview", folder.id, to, wanted.join()),
    queryFn: () => kept.lookAtRollback(folder.id, to, wanted),
    enabled: begun === undefined && first.data !== undefined && wanted.length > 0,
    placeholderData: keepPreviousData,
  });
  const preview = wanted.length > 0 ? second : first;
  const seen = preview.data;
  const begin = useMutation({
    mutationFn: () => kept.rollBack(folder.id, { to: seen!.to, token: seen!.token, keep: wanted }),
    onSuccess: setBegun,
    onError: (e) => {
      toast.refuse(e);
      void queries.invalidateQueries({ queryKey: key("rollback preview") });
    },
  });

  return (
    <aside
      aria-label="Rollback"
      className="w-[316px] shrink-0 border-l border-line bg-sheet p-5 max-md:fixed max-md:inset-x-0 max-md:bottom-0 max-md:z-30 max-md:max-h-[75vh] max-md:w-auto max-md:overflow-y-auto max-md:rounded-t-xl max-md:border max-md:shadow-xl"
    >
      <div className="flex items-start gap-2">
        <h2 className="min-w-0 flex-1 font-bold">
          {begun ? "Going back" : `Go back to ${seen ? moment(new Date(seen.at)) : "this moment"}`}
        </h2>
        <IconButton label="Close the rollback" onClick={onClose} className="-mt-1.5 -mr-2">
          <X size={18} />
        </IconButton>
      </div>
      {begun ? (
        <Under begun={begun} onNow={onNow} onAgain={setBegun} />
      ) : (
        <>
          <p className="mt-1 text-[14.5px] text-muted">
            What a rollback of {folder.name} would do. It is a change like any other, so it can be taken back.
          </p>
          {first.isPending && <Loading rows={4} />}
          {preview.isError && <Notice error={preview.error} retry={() => void preview.refetch()} />}
          {seen && (
            <>
              <dl className="mt-3 grid grid-cols-[1fr_auto] gap-y-1.5 text-[14.5px]">
                <Line word="come back" n={seen.returns} />
                <Line word="get their earlier content" n={seen.changes} />
                <Line word="are moved to where they were" n={seen.moves} />
                <Line word="go to the trash" n={seen.goes} />
                <Line word="stay as they are" n={seen.stays + seen.kept} />
                <dt>brought back</dt>
                <dd className="text-right font-mono font-bold">
                  {size(seen.return_bytes + seen.change_bytes)}
                </dd>
              </dl>
              {others.length > 0 && (
                <section aria-label="Newer work in the way" className="mt-4">
                  <h3 className="mb-1 text-[14.5px] font-semibold text-muted">Newer work in the way</h3>
                  <ul className="max-h-40 overflow-y-auto text-[14.5px]">
                    {others.slice(0, 50).map((l) => (
                      <li key={`${l.node} ${l.what}`} className="py-0.5">
                        <span className="block truncate" title={l.path}>
                          {l.path}
                        </span>
                        <span className="block text-muted">
                          {l.by ?? "found on the disk"}
                          {l.changed && `, ${when(l.changed)}`}
                        </span>
                      </li>
                    ))}
                    {others.length > 50 && (
                      <li className="text-muted">and {count(others.length - 50, "more file")}</li>
                    )}
                  </ul>
                  <label className="mt-1.5 flex items-center gap-2 text-[14.5px]">
                    <input
                      type="checkbox"
                      className="size-4 accent-gold"
                      checked={keeping}
                      onChange={(e) => setKeeping(e.target.checked)}
                    />
                    keep these as they are
                  </label>
                </section>
              )}
              <Details lines={seen.lines.filter((l) => !l.others)} all={seen} keep={keep} onKeep={setKeep} />
              <div className="mt-4 flex flex-wrap items-center gap-2">
                <Button
                  look="primary"
                  disabled={seen.steps === 0 || begin.isPending || preview.isFetching}
                  onClick={() => begin.mutate()}
                >
                  {seen.steps === 0 ? "Nothing to roll back" : `Roll back in ${count(seen.steps, "step")}`}
                </Button>
                <Button look="quiet" onClick={onNow}>
                  Back to now
                </Button>
              </div>
            </>
          )}
        </>
      )}
    </aside>
  );
}

function Line({ word, n }: { word: string; n: number }) {
  if (n === 0) return null;
  return (
    <>
      <dt>{word}</dt>
      <dd className="text-right font-mono font-bold">{n.toLocaleString("en")}</dd>
    </>
  );
}

const words: Record<RollbackLine["what"], string> = {
  returns: "comes back",
  "moves back": "is moved back",
  changes: "gets its earlier content",
  goes: "goes to the trash",
  stays: "stays",
};

/** Each thing by name; what is to stay can be chosen. */
function Details({
  lines,
  all,
  keep,
  onKeep,
}: {
  lines: RollbackLine[];
  all: { steps: number; kept: number };
  keep: number[];
  onKeep: (keep: number[]) => void;
}) {
  if (lines.length === 0 && keep.length === 0) return null;
  return (
    <details className="mt-4 text-[14.5px]">
      <summary className="cursor-pointer font-semibold text-muted">Each of them</summary>
      {keep.length > 0 && (
        <p className="mt-1">
          {count(keep.length, "thing")} chosen to stay.{" "}
          <button type="button" className="text-teal underline" onClick={() => onKeep([])}>
            Roll all back
          </button>
        </p>
      )}
      <ul className="mt-1 max-h-64 overflow-y-auto">
        {lines.map((l) => (
          <li key={`${l.node} ${l.what}`} className="flex items-start gap-2 py-0.5">
            <span className="min-w-0 flex-1">
              <span className="block truncate" title={l.path}>
                {l.path}
              </span>
              <span className="block text-muted">{l.why ?? words[l.what]}</span>
            </span>
            {l.what !== "stays" && (
              <Button
                look="quiet"
                className="-my-0.5 text-teal"
                aria-label={`Leave ${l.path} as it is`}
                onClick={() => onKeep([...keep, l.node])}
              >
                Leave it
              </Button>
            )}
          </li>
        ))}
      </ul>
      {all.steps + all.kept > 500 && <p className="text-muted">The first 500 are shown.</p>}
    </details>
  );
}

/** A rollback under way, and how it ended. */
function Under({
  begun,
  onNow,
  onAgain,
}: {
  begun: Rollback;
  onNow: () => void;
  onAgain: (rollback: Rollback) => void;
}) {
  const queries = useQueryClient();
  const toast = useToast();
  const now = useQuery({
    queryKey: key("rollback", begun.id),
    queryFn: () => kept.rollback(begun.id),
    initialData: begun,
    initialDataUpdatedAt: 0,
    refetchInterval: (q) => (q.state.data?.state === "running" ? 400 : false),
  });
  const r = now.data;
  useEffect(() => {
    if (r.state !== "running") void queries.invalidateQueries();
  }, [r.state, queries]);
  const act = useMutation({
    mutationFn: (what: "stop" | "undo") =>
      what === "stop" ? kept.stopRollback(r.id) : kept.undoRollback(r.id),
    onSuccess: (next, what) => {
      if (what === "undo") onAgain(next);
      else void now.refetch();
    },
    onError: (e) => toast.refuse(e),
  });
  const part = r.steps === 0 ? 1 : Math.min(1, r.done / r.steps);
  const seconds = (Date.now() - new Date(r.made).getTime()) / 1000;
  const left = part > 0.02 && seconds > 1 ? (seconds / part) * (1 - part) : undefined;
  return (
    <div role="status" className="mt-2">
      {r.state === "running" ? (
        <>
          <progress className="h-2 w-full accent-gold" max={1} value={part} aria-label="Rolled back" />
          <p className="mt-1 text-[14.5px]">
            {r.done.toLocaleString("en")} of {count(r.steps, "step")}, {size(r.bytes_done)} of {size(r.bytes)}
            {seconds > 1 && r.bytes_done > 0 && `, ${size(Math.round(r.bytes_done / seconds))} a second`}
            {left !== undefined && `, ${span(left)} left`}
          </p>
          <p className="mt-2 text-[14.5px] text-muted">
            It goes on though this page is closed. Others can work on meanwhile.
          </p>
          <Button className="mt-3" disabled={act.isPending} onClick={() => act.mutate("stop")}>
            Stop here
          </Button>
        </>
      ) : (
        <>
          <p>
            {r.state === "done"
              ? `${r.undoes ? "Taken back" : "Rolled back"}: ${count(r.done, "step")}, ${size(r.bytes_done)}.`
              : `Stopped after ${r.done.toLocaleString("en")} of ${count(r.steps, "step")}.`}
          </p>
          {r.left_alone.length > 0 && (
            <details className="mt-2 text-[14.5px]" open={r.left_alone.length <= 5}>
              <summary className="cursor-pointer font-semibold text-muted">
                {count(r.left_alone.length, "thing")} left as{" "}
                {r.left_alone.length === 1 ? "it was" : "they were"}
              </summary>
              <ul className="mt-1 max-h-56 overflow-y-auto">
                {r.left_alone.map(([name, why], i) => (
                  <li key={i} className="py-0.5">
                    {name && <span className="block truncate">{name}</span>}
                    <span className="block text-muted">{why}</span>
                  </li>
                ))}
              </ul>
            </details>
          )}
          <div className="mt-4 flex flex-wrap gap-2">
            <Button look="primary" onClick={onNow}>
              See it now
            </Button>
            <Button icon={<Undo2 size={18} />} disabled={act.isPending} onClick={() => act.mutate("undo")}>
              {r.undoes ? "Roll back again" : "Take it back"}
            </Button>
          </div>
        </>
      )}
    </div>
  );
}
