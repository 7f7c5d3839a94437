import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState, type FormEvent } from "react";
import { Refusal } from "../../lib/api";
import { kept } from "../../lib/kept";
import type { Quota } from "../../lib/past";
import { size } from "../../lib/show";
import { Button, Chip, Dialog, DialogActions, Field, Loading, Notice, useToast } from "../../ui";
import { key } from "../../lib/query-keys";

const written = (bytes?: number) => (bytes === undefined ? "" : size(bytes).replace(/\.0+ /, " "));

/** Every line that something may not pass, and how full it is. */
export function Quotas() {
  const found = useQuery({ queryKey: key("quotas"), queryFn: kept.quotas });
  const [open, setOpen] = useState<Quota>();
  const [of, setOf] = useState(false);
  return (
    <section aria-label="Quotas" className="mt-8">
      <div className="flex flex-wrap items-baseline gap-3">
        <h2 className="text-lg font-bold">Quotas</h2>
        <span className="text-[14.5px] text-muted">{found.data?.counts}</span>
        <span className="flex-1" />
        <Button onClick={() => setOf(true)}>Quota of a folder</Button>
      </div>
      {found.isPending && <Loading rows={4} />}
      {found.isError && <Notice error={found.error} retry={() => void found.refetch()} />}
      <ul className="mt-1">
        {found.data?.quotas.map((q) => (
          <li key={q.of} className="border-b border-line">
            <button
              type="button"
              onClick={() => setOpen(q)}
              className="grid w-full grid-cols-[1.4fr_1fr_auto] items-center gap-4 px-1 py-2 text-left hover:bg-sheet"
            >
              <span className="min-w-0 truncate">{q.name}</span>
              <span className="flex items-center gap-3 max-sm:hidden">
                {q.hard !== undefined && (
                  <meter
                    className="h-2 w-28"
                    min={0}
                    max={Math.max(q.hard, 1)}
                    high={q.hard * 0.9}
                    value={q.used}
                    aria-label={`${q.name}, how full`}
                  />
                )}
                {q.warns && <Chip look="brick">nearly full</Chip>}
              </span>
              <span className="text-right font-mono text-[14px]">
                {size(q.used)}
                {q.hard !== undefined ? ` of ${size(q.hard)}` : ", no limit"}
              </span>
            </button>
          </li>
        ))}
      </ul>
      {(open || of) && (
        <QuotaDialog
          quota={open}
          onClose={() => {
            setOpen(undefined);
            setOf(false);
          }}
        />
      )}
    </section>
  );
}

function QuotaDialog({ quota, onClose }: { quota?: Quota; onClose: () => void }) {
  const queries = useQueryClient();
  const toast = useToast();
  const before = { soft: written(quota?.soft), hard: quota?.by_groups ? "" : written(quota?.hard) };
  const [of, setOf] = useState("");
  const [soft, setSoft] = useState(before.soft);
  const [hard, setHard] = useState(before.hard);
  const saving = useMutation({
    mutationFn: () =>
      kept.setQuota({
        of: quota?.of ?? of.trim(),
        ...(soft.trim() !== before.soft && { soft: soft.trim() || "none" }),
        ...(hard.trim() !== before.hard && { hard: hard.trim() || "none" }),
      }),
    onSuccess: async () => {
      await queries.invalidateQueries();
      toast.say(`The quota of ${quota?.name ?? of} is set.`);
      onClose();
    },
  });
  const submit = (e: FormEvent) => {
    e.preventDefault();
    saving.mutate();
  };
  const refusal = saving.error instanceof Refusal ? saving.error : undefined;
  return (
    <Dialog
      open
      onClose={onClose}
      title={quota ? `Quota of ${quota.name}` : "Quota of a folder"}
      description={
        quota
          ? `${size(quota.used)} count now. All quotas that apply hold at once.`
          : "A folder's quota holds beside that of its shelf."
      }
    >
      <form onSubmit={submit} className="flex flex-col gap-4">
        {!quota && (
          <Field
            label="Folder"
            placeholder="Exhibition 2027:/Room plans"
            value={of}
            onChange={(e) => setOf(e.target.value)}
            autoFocus
            required
          />
        )}
        <Field
          label="Soft line (optional)"
          placeholder="18 GiB"
          hint="From here on people are warned; everything still works."
          value={soft}
          onChange={(e) => setSoft(e.target.value)}
        />
        <Field
          label="Hard line (optional)"
          placeholder={quota?.by_groups ? `${size(quota.hard ?? 0)}, by a group` : "20 GiB"}
          hint="Uploads beyond it are refused before a byte is sent. What is there already stays."
          value={hard}
          onChange={(e) => setHard(e.target.value)}
        />
        {refusal && (
          <p role="alert" className="rounded-lg bg-brick-wash p-3">
            {refusal.message} {refusal.remedy}
          </p>
        )}
        <DialogActions>
          <Button onClick={onClose}>Cancel</Button>
          <Button
            type="submit"
            look="primary"
            disabled={
              saving.isPending ||
              (!quota && of.trim() === "") ||
              (soft.trim() === before.soft && hard.trim() === before.hard)
            }
          >
            Save
          </Button>
        </DialogActions>
      </form>
    </Dialog>
  );
}
