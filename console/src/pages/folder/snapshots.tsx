import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { Camera, Pencil, X } from "lucide-react";
import { useState, type FormEvent } from "react";
import { dayOf, endOfDay } from "../../lib/days";
import { kept, type Snapshot } from "../../lib/kept";
import { exactly, size, when } from "../../lib/show";
import { Button, DayField, Dialog, Field, IconButton, Loading, Notice, useToast } from "../../ui";
import { key } from "../../lib/query-keys";

/** The snapshots of a shelf: gone to, taken, renamed, ended. */
export function SnapshotsDialog({
  root,
  mayManage,
  onGo,
  onClose,
}: {
  root: number;
  mayManage: boolean;
  onGo: (moment: string) => void;
  onClose: () => void;
}) {
  const queries = useQueryClient();
  const toast = useToast();
  const found = useQuery({ queryKey: key("snapshots", root), queryFn: () => kept.snapshots(root) });
  const [editing, setEditing] = useState<Snapshot>();
  const [label, setLabel] = useState("");
  const [ends, setEnds] = useState("");
  const done = async () => {
    setEditing(undefined);
    setLabel("");
    setEnds("");
    await queries.invalidateQueries({ queryKey: key("snapshots") });
  };
  const saving = useMutation({
    mutationFn: () => {
      const body = { label: label.trim(), ends: ends === "" ? "never" : endOfDay(ends) };
      return editing ? kept.changeSnapshot(editing.id, body) : kept.takeSnapshot(root, body);
    },
    onSuccess: async (s) => {
      toast.say(editing ? `"${s.label}" is changed.` : `Taken: "${s.label}".`);
      await done();
    },
    onError: (e) => toast.refuse(e),
  });
  const ending = useMutation({
    mutationFn: (s: Snapshot) => kept.endSnapshot(s.id),
    onSuccess: async (_, s) => {
      toast.say(`"${s.label}" is ended. What only it kept goes by the rules from now on.`);
      await done();
    },
    onError: (e) => toast.refuse(e),
  });
  const submit = (e: FormEvent) => {
    e.preventDefault();
    saving.mutate();
  };
  const list = found.data?.snapshots ?? [];
  return (
    <Dialog
      open
      onClose={onClose}
      title={`Snapshots${list[0] ? ` of ${list[0].shelf}` : ""}`}
      description="A snapshot names a moment of the whole shelf and keeps all that was there then."
    >
      {found.isPending && <Loading rows={3} />}
      {found.isError && <Notice error={found.error} />}
      {found.data && (
        <p className="text-[14.5px] text-muted">
          {found.data.schedules === "none"
            ? "None is taken by itself."
            : `Taken by themselves: ${found.data.schedules}.`}{" "}
          {found.data.only_bytes > 0 && `${size(found.data.only_bytes)} are kept by snapshots only.`}
        </p>
      )}
      <ul aria-label="Snapshots" className="mt-2 min-h-0 flex-1 overflow-y-auto">
        {list.map((s) => (
          <li key={s.id} className="flex items-center gap-2 border-b border-line py-1.5">
            <button
              type="button"
              className="min-w-0 flex-1 rounded text-left hover:underline"
              onClick={() => onGo(s.moment)}
            >
              <span className="block truncate">{s.label}</span>
              <span className="block text-[14px] text-muted" title={exactly(s.at)}>
                {when(s.at)}
                {s.by ? `, by ${s.by}` : s.schedule ? ", by schedule" : ""},{" "}
                {s.ends ? `until ${when(s.ends)}` : "without an end"}
              </span>
            </button>
            {mayManage && (
              <>
                <IconButton
                  label={`Change ${s.label}`}
                  onClick={() => {
                    setEditing(s);
                    setLabel(s.label);
                    setEnds(dayOf(s.ends));
                  }}
                >
                  <Pencil size={17} />
                </IconButton>
                <IconButton
                  label={`End ${s.label}`}
                  className="hover:text-brick"
                  disabled={ending.isPending}
                  onClick={() => ending.mutate(s)}
                >
                  <X size={18} />
                </IconButton>
              </>
            )}
          </li>
        ))}
        {found.data && list.length === 0 && <li className="py-4 text-muted">None was taken so far.</li>}
      </ul>
      {mayManage && (
        <form onSubmit={submit} className="mt-4 flex flex-wrap items-end gap-3">
          <Field
            className="min-w-40 flex-1"
            label={editing ? "Its label" : "Label of a new one"}
            value={label}
            maxLength={120}
            placeholder="before the new hanging"
            onChange={(e) => setLabel(e.target.value)}
            required
          />
          <DayField
            className="w-44"
            label="Last day (optional)"
            value={ends}
            onChange={setEnds}
            first={dayOf(new Date())}
          />
          <Button
            type="submit"
            look="primary"
            icon={<Camera size={18} />}
            disabled={saving.isPending || label.trim() === ""}
          >
            {editing ? "Save" : "Take it now"}
          </Button>
          {editing && <Button onClick={() => void done()}>Cancel</Button>}
        </form>
      )}
    </Dialog>
  );
}
