import { useMutation } from "@tanstack/react-query";
import { useState, type FormEvent } from "react";
import { Refusal } from "../../lib/api";
import { dayOf, endOfDay } from "../../lib/days";
import { outside, type Opening, type OpeningKind, type OpeningSet } from "../../lib/outside";
import type { Wish } from "../../lib/wish";
import { Button, Choice, DayField, DialogActions, Field } from "../../ui";

const kindsOfFiles = ["pictures", "documents", "sound", "video", "archives"];
const MiB = 1024 * 1024;

/** The end of a chosen day here; an empty one takes the end away. */
interface Props {
  kind: OpeningKind;
  node: number;
  folder: boolean;
  /** The one to be changed; none: a new one. */
  opening?: Opening;
  /** What a new one is asked for with. */
  wish?: Wish;
  onDone: (opening: Opening) => void;
  onCancel: () => void;
}

/** What a link or an intake says, takes, and until when. */
export function OpeningForm({ kind, node, folder, opening, wish, onDone, onCancel }: Props) {
  const [can, setCan] = useState<Opening["can"]>(opening?.can ?? (wish?.can as Opening["can"]) ?? "download");
  const [title, setTitle] = useState(opening?.title ?? wish?.title ?? "");
  const [message, setMessage] = useState(opening?.message ?? wish?.message ?? "");
  const [ending, setEnding] = useState(wish?.ending ?? "");
  const [locked, setLocked] = useState(opening?.password ?? false);
  const [password, setPassword] = useState("");
  const [begins, setBegins] = useState(dayOf(opening?.begins ?? wish?.begins));
  const [ends, setEnds] = useState(dayOf(opening?.ends ?? wish?.ends));
  const [most, setMost] = useState(`${opening?.most ?? wish?.most ?? ""}`);
  const [largest, setLargest] = useState(opening?.largest_file ? `${opening.largest_file / MiB}` : "");
  const [together, setTogether] = useState(opening?.largest_all ? `${opening.largest_all / MiB}` : "");
  const [kinds, setKinds] = useState(opening?.kinds ?? "");
  const [asksMail, setAsksMail] = useState(opening?.asks_mail ?? false);
  const intake = kind === "intake";
  const words = kinds
    .split(",")
    .map((w) => w.trim())
    .filter(Boolean);
  const turn = (word: string, on: boolean) =>
    setKinds((on ? [...words, word] : words.filter((w) => w !== word)).join(", "));

  const saving = useMutation({
    mutationFn: () => {
      const set: OpeningSet = { title: title.trim(), message: message.trim() };
      if (!locked && opening?.password) set.password = "";
      if (locked && password) set.password = password;
      if (begins !== dayOf(opening?.begins))
        set.begins = begins ? new Date(`${begins}T00:00:00`).toISOString() : "";
      if (ends !== dayOf(opening?.ends)) set.ends = endOfDay(ends);
      if (intake || can === "download" || opening?.most)
        set.most = can === "download" || intake ? Number(most || 0) : 0;
      if (intake) {
        set.largest_file = Math.round(Number(largest || 0) * MiB);
        set.largest_all = Math.round(Number(together || 0) * MiB);
        set.kinds = kinds;
        set.asks_mail = asksMail;
      } else set.can = can;
      return opening
        ? outside.change(opening.id, set)
        : outside.make({ kind, node, ending: ending.trim() || undefined, set });
    },
    onSuccess: onDone,
  });
  const refusal = saving.error instanceof Refusal ? saving.error : undefined;
  const said = refusal && `${refusal.message} ${refusal.remedy}`;
  const at = (code: string[]) => (refusal && code.includes(refusal.code) ? said : undefined);
  const elsewhere =
    refusal && !["ending_cannot_be", "ending_taken", "password_refused"].includes(refusal.code);
  const submit = (e: FormEvent) => {
    e.preventDefault();
    saving.mutate();
  };
  return (
    <form onSubmit={submit} className="min-h-0 overflow-y-auto px-0.5">
      {!intake && (
        <Choice
          label="Whoever has the address may"
          options={(folder ? ["view", "download", "add", "edit"] : ["view", "download"]).map((w) => [
            w,
            {
              view: "look only",
              download: "look and download",
              add: "also add files",
              edit: "also change and remove",
            }[w]!,
          ])}
          value={can}
          onChange={(e) => setCan(e.target.value as Opening["can"])}
        />
      )}
      {!intake && can === "view" && (
        <p className="mt-1 text-sm text-muted">
          There is no download then. Whatever is shown can still be kept by whoever sees it.
        </p>
      )}
      <Field
        className={intake ? "" : "mt-4"}
        label="Title (optional)"
        hint={intake ? "What strangers read first." : "What strangers read first; without it, the name."}
        value={title}
        maxLength={200}
        onChange={(e) => setTitle(e.target.value)}
      />
      <div className="mt-4">
        <label htmlFor="opening-message" className="mb-1 block font-semibold">
          Message (optional)
        </label>
        <textarea
          id="opening-message"
          rows={3}
          maxLength={4000}
          value={message}
          onChange={(e) => setMessage(e.target.value)}
          className="block w-full rounded-lg border border-muted bg-sheet px-3 py-1.5"
        />
      </div>
      <div className="mt-4 grid grid-cols-2 gap-3 max-sm:grid-cols-1">
        <DayField label="From (optional)" value={begins} onChange={setBegins} />
        <DayField label="Until (optional)" value={ends} onChange={setEnds} first={dayOf(new Date())} />
        {(intake || can === "download") && (
          <Field
            label={intake ? "Deliveries at most" : "Downloads at most"}
            type="number"
            min={1}
            value={most}
            hint={intake ? undefined : "Each is counted. With a limit there is no preview."}
            onChange={(e) => setMost(e.target.value)}
          />
        )}
        {!opening && (
          <Field
            label="Own ending (optional)"
            value={ending}
            hint="Without one the address cannot be guessed."
            error={at(["ending_cannot_be", "ending_taken"])}
            onChange={(e) => setEnding(e.target.value)}
          />
        )}
        {intake && (
          <>
            <Field
              label="Largest file, MiB"
              type="number"
              min={0}
              step="any"
              value={largest}
              onChange={(e) => setLargest(e.target.value)}
            />
            <Field
              label="A delivery at most, MiB"
              type="number"
              min={0}
              step="any"
              value={together}
              onChange={(e) => setTogether(e.target.value)}
            />
          </>
        )}
      </div>
      {intake && (
        <fieldset className="mt-4">
          <legend className="mb-1 font-semibold">Taken</legend>
          <div className="flex flex-wrap gap-x-4">
            {kindsOfFiles.map((word) => (
              <Tick
                key={word}
                label={word}
                checked={words.includes(word)}
                onChange={(on) => turn(word, on)}
              />
            ))}
          </div>
          <Field
            className="mt-2"
            label="These kinds and endings"
            hint="Such as pictures, .pdf; empty takes anything. What a file really is counts too."
            value={kinds}
            onChange={(e) => setKinds(e.target.value)}
          />
          <div className="mt-2">
            <Tick
              label="Ask for a mail address, and send a receipt to it"
              checked={asksMail}
              onChange={setAsksMail}
            />
          </div>
        </fieldset>
      )}
      <div className="mt-4">
        <Tick label="Ask for a password" checked={locked} onChange={setLocked} />
        {locked && (
          <Field
            className="mt-2"
            label={opening?.password ? "New password (empty keeps the old one)" : "Password"}
            type="text"
            autoComplete="off"
            value={password}
            hint="At least 8 characters. Tell it another way than the address."
            error={at(["password_refused"])}
            onChange={(e) => setPassword(e.target.value)}
            required={!opening?.password}
          />
        )}
      </div>
      {elsewhere && (
        <p role="alert" className="mt-4 rounded-lg bg-brick-wash p-3">
          {said}
        </p>
      )}
      <DialogActions>
        <Button onClick={onCancel}>Cancel</Button>
        <Button type="submit" look="primary" disabled={saving.isPending}>
          {opening ? "Save" : intake ? "Make the intake" : "Make the link"}
        </Button>
      </DialogActions>
    </form>
  );
}

function Tick({
  label,
  checked,
  onChange,
}: {
  label: string;
  checked: boolean;
  onChange: (on: boolean) => void;
}) {
  return (
    <label className="flex items-center gap-2 py-0.5">
      <input
        type="checkbox"
        className="size-4 accent-gold"
        checked={checked}
        onChange={(e) => onChange(e.target.checked)}
      />
      {label}
    </label>
  );
}
