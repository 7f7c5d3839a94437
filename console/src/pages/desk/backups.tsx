import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { jobs, type BackupState, type Job } from "../../lib/jobs";
import { key } from "../../lib/query-keys";
import { count, exactly, moment, size, when } from "../../lib/show";
import { Button, Chip, Empty, Loading, Notice, useToast } from "../../ui";

/** How it stands with backups, and what runs in the background. */
export function BackupsDesk() {
  const queries = useQueryClient();
  const toast = useToast();
  const all = useQuery({
    queryKey: key("jobs"),
    queryFn: jobs.all,
    refetchInterval: (query) => (query.state.data?.jobs.some((job) => !job.ended) ? 1000 : 10_000),
  });
  const again = () => queries.invalidateQueries({ queryKey: key("jobs") });
  const begin = useMutation({
    mutationFn: jobs.backup,
    onSuccess: again,
    onError: (e) => toast.refuse(e),
  });
  const stop = useMutation({
    mutationFn: jobs.stop,
    onSuccess: async () => {
      toast.say("It ends as soon as it can.");
      await again();
    },
    onError: (e) => toast.refuse(e),
  });
  if (all.isPending) return <Loading />;
  if (all.isError) return <Notice error={all.error} retry={() => void all.refetch()} />;
  const { backup } = all.data;
  const runs = all.data.jobs.some((job) => job.kind === "backup" && !job.ended);
  return (
    <>
      <section aria-label="Backups" className="pt-3">
        <div
          className={`flex flex-wrap items-center gap-x-6 gap-y-3 rounded-lg p-4 ${backup.state === "kept" ? "bg-gold-wash" : "bg-brick-wash"}`}
        >
          <p role="status" className="min-w-60 flex-1 text-lg font-semibold">
            {backup.why}
          </p>
          {backup.to && (
            <Button look="primary" disabled={runs || begin.isPending} onClick={() => begin.mutate()}>
              {runs ? "A backup runs" : "Back up now"}
            </Button>
          )}
        </div>
        <Facts backup={backup} />
      </section>
      <h2 className="mt-8 border-b border-line pb-2 text-xl font-bold">In the background</h2>
      {all.data.jobs.length === 0 && (
        <Empty title="Nothing has run yet">
          Backups and looks at the disk are listed here while they run, and afterwards with what became of
          them.
        </Empty>
      )}
      <ul>
        {all.data.jobs.map((job) => (
          <Line key={job.id} job={job} stop={() => stop.mutate(job.id)} />
        ))}
      </ul>
    </>
  );
}

function Facts({ backup }: { backup: BackupState }) {
  const { last } = backup;
  const facts: [string, string, string?][] = [];
  if (last) {
    facts.push(["Last whole one", when(last.ended), exactly(last.ended)]);
    facts.push(["It holds", `${count(last.files, "file")}, ${size(last.bytes)}, and their history`]);
    facts.push(["Tried", `${count(last.drilled, "file")} brought back and compared`]);
    facts.push(["It lies in", last.to]);
  }
  if (backup.to && backup.to !== last?.to) facts.push(["Goes to", backup.to]);
  if (!backup.to) facts.push(["By schedule", "none: set backup_to in the service’s configuration"]);
  if (backup.next) facts.push(["Next", moment(new Date(backup.next)), exactly(backup.next)]);
  return (
    <>
      <dl className="mt-4 grid grid-cols-[150px_minmax(0,1fr)] gap-x-4 gap-y-1.5 max-sm:grid-cols-[110px_minmax(0,1fr)]">
        {facts.map(([word, value, title]) => (
          <div key={word} className="contents">
            <dt className="text-muted">{word}</dt>
            <dd className="break-words" title={title}>
              {value}
            </dd>
          </div>
        ))}
      </dl>
      <p className="mt-4 max-w-3xl text-[14.5px] text-muted">
        The way back: <code className="font-mono">yatticd restore FOLDER --into NEW-DATA-FOLDER</code>, or
        single files with <code className="font-mono whitespace-nowrap">--path</code> and{" "}
        <code className="font-mono whitespace-nowrap">--out</code>. The key of second factors (
        <code className="font-mono">secrets.key</code>) is not in a backup: keep it elsewhere.
      </p>
    </>
  );
}

const words: Record<string, string> = {
  backup: "Backup",
  check: "Everything read",
  reconcile: "Look at the disk",
};

function Line({ job, stop }: { job: Job; stop: () => void }) {
  const going = job.progress;
  const share = going && going.of > 0 ? Math.min(1, going.done / going.of) : undefined;
  const bad = job.state === "failed" || job.state === "cut off";
  return (
    <li className="grid grid-cols-[minmax(0,1fr)_auto] items-start gap-x-4 gap-y-1 border-b border-line py-3">
      <div className="min-w-0">
        <p>
          <span className="font-semibold">{words[job.kind] ?? job.kind}</span>{" "}
          <span className="break-words text-muted">
            {job.what}, asked for by {job.by}
          </span>
        </p>
        <p className="text-[14.5px] break-words text-muted">
          <span title={exactly(job.begun)}>{when(job.begun)}</span>
          {job.said && `: ${job.said}.`}
          {going && going.step !== "" && `: ${going.step}, ${going.done.toLocaleString("en")}`}
          {going && going.of > 0 && ` of ${going.of.toLocaleString("en")}`}
          {going && going.bytes > 0 && `, ${size(going.bytes)}`}
        </p>
        {share !== undefined && (
          <div
            role="progressbar"
            aria-label={words[job.kind] ?? job.kind}
            aria-valuenow={Math.round(share * 100)}
            aria-valuemin={0}
            aria-valuemax={100}
            className="mt-2 h-1.5 max-w-lg overflow-hidden rounded-full bg-line"
          >
            <div className="h-full bg-gold" style={{ width: `${share * 100}%` }} />
          </div>
        )}
      </div>
      {job.ended ? (
        <Chip look={bad ? "brick" : "plain"}>{job.state}</Chip>
      ) : (
        <Button onClick={stop}>Stop</Button>
      )}
    </li>
  );
}
