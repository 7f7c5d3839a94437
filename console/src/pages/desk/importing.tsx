import { useMutation, useQueryClient } from "@tanstack/react-query";
import { FileUp } from "lucide-react";
import { useRef, useState } from "react";
import { api, Refusal, type ListedPeople } from "../../lib/api";
import { count } from "../../lib/show";
import { Button, Chip, Dialog, DialogActions, useToast } from "../../ui";

const columns: [string, string][] = [
  ["", "left out"],
  ["sign_in", "sign-in name"],
  ["display_name", "name"],
  ["mail", "mail address"],
  ["groups", "groups"],
  ["quota", "quota"],
  ["role", "role"],
];
const fates: Record<string, string> = {
  made: "new",
  changed: "changes",
  same: "all so already",
  there: "there already",
  wrong: "wrong",
};
/** So many rows are shown; the others are counted. */
const shown = 300;

/** Many accounts from a list: every row's fate is shown first, then the same table as the result. */
export function ImportDialog({ onClose }: { onClose: () => void }) {
  const queries = useQueryClient();
  const toast = useToast();
  const input = useRef<HTMLInputElement>(null);
  const [file, setFile] = useState<File>();
  const [change, setChange] = useState(false);
  const [invite, setInvite] = useState(false);
  const [mapped, setMapped] = useState<Record<string, string>>({});
  const [told, setTold] = useState<ListedPeople>();
  const reading = useMutation({
    mutationFn: (how: { file: File; preview: boolean; change: boolean; columns: Record<string, string> }) => {
      const { file: list, ...options } = how;
      return api.listPeople(list, { ...options, invite });
    },
    onSuccess: async (list) => {
      setTold(list);
      if (!list.done) return;
      await queries.invalidateQueries();
      toast.say(
        `${count(list.sums.made ?? 0, "account")} made, ${list.sums.changed ?? 0} changed.` +
          (list.invited > 0 ? ` ${count(list.invited, "invitation")} written.` : ""),
      );
    },
  });
  const look = (next: { file?: File; change?: boolean; columns?: Record<string, string> }) => {
    const wanted = {
      file: next.file ?? file,
      change: next.change ?? change,
      columns: next.columns ?? mapped,
    };
    if (wanted.file)
      reading.mutate({ file: wanted.file, change: wanted.change, columns: wanted.columns, preview: true });
  };
  const refusal = reading.error instanceof Refusal ? reading.error : undefined;
  const todo = (told?.sums.made ?? 0) + (told?.sums.changed ?? 0);
  // What is wrong is what has to be looked at.
  const order = ["wrong", "made", "changed", "there", "same"];
  const rows =
    told && told.rows.toSorted((a, b) => order.indexOf(a.fate) - order.indexOf(b.fate) || a.line - b.line);
  return (
    <Dialog
      open
      onClose={onClose}
      wide
      title="Accounts from a list"
      description="CSV whose first line names the columns. Nothing is written before you have seen what becomes of each row."
    >
      <div className="min-h-0 flex-1 overflow-y-auto px-0.5">
        <input
          ref={input}
          type="file"
          accept=".csv,.txt,text/csv"
          className="sr-only"
          tabIndex={-1}
          aria-label="List file"
          onChange={(e) => {
            const chosen = e.target.files?.[0];
            if (chosen) {
              setFile(chosen);
              setMapped({});
              look({ file: chosen, columns: {} });
            }
            e.target.value = "";
          }}
        />
        <div className="flex flex-wrap items-center gap-x-5 gap-y-2">
          <Button icon={<FileUp size={18} />} onClick={() => input.current?.click()}>
            {file ? "Choose another file" : "Choose a file"}
          </Button>
          {file && <span className="min-w-0 truncate">{file.name}</span>}
          <label className="flex items-center gap-2">
            <input
              type="checkbox"
              className="size-4 accent-gold"
              checked={change}
              disabled={told?.done}
              onChange={(e) => {
                setChange(e.target.checked);
                look({ change: e.target.checked });
              }}
            />
            Change accounts that are there
          </label>
          <label className="flex items-center gap-2">
            <input
              type="checkbox"
              className="size-4 accent-gold"
              checked={invite}
              disabled={told?.done}
              onChange={(e) => setInvite(e.target.checked)}
            />
            Send invitations
          </label>
        </div>
        {refusal && (
          <p role="alert" className="mt-4 rounded-lg bg-brick-wash p-3">
            {refusal.message} {refusal.remedy}
          </p>
        )}
        {told && rows && (
          <>
            {!told.done && (
              <fieldset className="mt-4">
                <legend className="mb-1 font-semibold">Columns</legend>
                <div className="flex flex-wrap gap-x-5 gap-y-2">
                  {told.columns.map((c) => (
                    <label key={c.heading} className="flex items-center gap-2">
                      {c.heading}
                      <select
                        className="min-h-8 rounded-lg border border-muted bg-sheet px-1.5"
                        value={c.column ?? ""}
                        onChange={(e) => {
                          const next = { ...mapped, [c.heading]: e.target.value };
                          setMapped(next);
                          look({ columns: next });
                        }}
                      >
                        {columns.map(([value, word]) => (
                          <option key={value} value={value}>
                            {word}
                          </option>
                        ))}
                      </select>
                    </label>
                  ))}
                </div>
              </fieldset>
            )}
            <p role="status" className="mt-4 font-semibold">
              {told.done ? "Done: " : ""}
              {order
                .filter((f) => told.sums[f])
                .map((f) => `${told.sums[f]} ${fates[f]}`)
                .join(", ")}
              .
            </p>
            <table className="mt-2 w-full text-left text-[14.5px]">
              <thead className="text-muted">
                <tr>
                  <th className="pr-3 text-right font-normal">Line</th>
                  <th className="pr-3 font-normal">Sign-in name</th>
                  <th className="pr-3 font-normal max-sm:hidden">Name</th>
                  <th className="pr-3 font-normal">Fate</th>
                </tr>
              </thead>
              <tbody>
                {rows.slice(0, shown).map((r) => (
                  <tr key={r.line} className="border-t border-line align-baseline">
                    <td className="py-1 pr-3 text-right font-mono">{r.line}</td>
                    <td className="py-1 pr-3">{r.sign_in}</td>
                    <td className="py-1 pr-3 max-sm:hidden">{r.display_name}</td>
                    <td className="py-1 pr-3">
                      <Chip look={r.fate === "wrong" ? "brick" : r.fate === "made" ? "gold" : "plain"}>
                        {fates[r.fate]}
                      </Chip>{" "}
                      {r.fate !== "there" && r.details.join("; ")}
                    </td>
                  </tr>
                ))}
              </tbody>
            </table>
            {rows.length > shown && (
              <p className="mt-2 text-muted">And {count(rows.length - shown, "row")} more.</p>
            )}
          </>
        )}
      </div>
      <DialogActions>
        <Button onClick={onClose}>{told?.done ? "Done" : "Cancel"}</Button>
        {!told?.done && (
          <Button
            look="primary"
            disabled={!file || todo === 0 || reading.isPending}
            onClick={() => reading.mutate({ file: file!, change, columns: mapped, preview: false })}
          >
            {reading.isPending ? "Reading" : `Take ${count(todo, "row")} over`}
          </Button>
        )}
      </DialogActions>
    </Dialog>
  );
}
