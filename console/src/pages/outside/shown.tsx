import { useMutation, useQueryClient } from "@tanstack/react-query";
import { Copy, ExternalLink, Mail, QrCode } from "lucide-react";
import { useState, type FormEvent, type ReactNode } from "react";
import { outside, type Opening, type OpeningSet } from "../../lib/outside";
import { count, exactly, shortDay, size, when } from "../../lib/show";
import { Button, Field, IconButton, Notice, useToast } from "../../ui";
import { canWords, State } from "./state";
import { key } from "../../lib/query-keys";

/** One link or intake: its address, how it stands, and what can be done with it. */
export function OpeningShown({
  opening,
  onEdit,
  level: Heading = "h3",
  children,
}: {
  opening: Opening;
  onEdit: () => void;
  /** Below what it stands. */
  level?: "h2" | "h3";
  children?: ReactNode;
}) {
  const queries = useQueryClient();
  const toast = useToast();
  const [more, setMore] = useState<"code" | "mail">();
  const change = useMutation({
    mutationFn: (set: OpeningSet) => outside.change(opening.id, set),
    onSuccess: async () => {
      await queries.invalidateQueries({ queryKey: key("openings") });
      await queries.invalidateQueries({ queryKey: key("given") });
    },
    onError: (e) => toast.refuse(e),
  });
  const copy = async () => {
    try {
      await navigator.clipboard.writeText(opening.address!);
      toast.say("The address is copied.");
    } catch {
      toast.say("The browser does not let copy here: select the address and copy it by hand.");
    }
  };
  const what = opening.kind;
  const ended = opening.state === "ended";
  return (
    <section
      aria-label={`${what} ${opening.title || opening.name}`}
      className="border-b border-line py-4 first:pt-1"
    >
      <div className="flex flex-wrap items-center gap-x-3 gap-y-1">
        <Heading className="min-w-0 flex-1 truncate font-semibold">
          {opening.title || opening.name || "(gone)"}
          <span className="font-normal text-muted">
            {what === "link" ? `, to ${canWords[opening.can]}` : ", to hand files in"}
          </span>
        </Heading>
        <State state={opening.state} why={opening.sentence} />
      </div>
      {opening.sentence && <p className="mt-1 text-[14.5px]">{opening.sentence}</p>}
      {opening.address && !ended && (
        <div className="mt-2 flex items-center gap-1">
          <input
            readOnly
            aria-label={`Address of the ${what}`}
            value={opening.address}
            onFocus={(e) => e.target.select()}
            className="min-h-9 min-w-0 flex-1 rounded-lg border border-line bg-paper px-2 font-mono text-[13.5px]"
          />
          <IconButton label="Copy the address" onClick={() => void copy()}>
            <Copy size={18} />
          </IconButton>
          <IconButton label="Show it as a code" onClick={() => setMore(more === "code" ? undefined : "code")}>
            <QrCode size={18} />
          </IconButton>
          <IconButton label="Send it by mail" onClick={() => setMore(more === "mail" ? undefined : "mail")}>
            <Mail size={18} />
          </IconButton>
          <a
            href={opening.address}
            target="_blank"
            rel="noreferrer"
            aria-label="See it as a stranger does"
            title="See it as a stranger does"
            className="inline-flex size-9 shrink-0 items-center justify-center rounded-lg text-muted hover:text-ink"
          >
            <ExternalLink size={18} />
          </a>
        </div>
      )}
      {more === "code" && (
        <img
          src={outside.picture(opening.id)}
          alt={`Code of ${opening.address}`}
          width={200}
          height={200}
          className="mt-2 rounded-lg bg-white p-1"
        />
      )}
      {more === "mail" && <MailForm opening={opening} onDone={() => setMore(undefined)} />}
      <p className="mt-2 text-[14.5px] text-muted">
        {opening.password
          ? "With a password. "
          : opening.own_ending
            ? "No password, and its ending can be guessed. "
            : ""}
        {opening.begins && (
          <span title={exactly(opening.begins)}>From {shortDay(new Date(opening.begins))}. </span>
        )}
        {opening.until ? (
          <span title={exactly(opening.until)}>Until {shortDay(new Date(opening.until))}. </span>
        ) : (
          "No end date. "
        )}
        {used(opening)}
        {opening.used_at && (
          <span title={exactly(opening.used_at)}>
            {" "}
            Last {when(opening.used_at)}
            {opening.used_from && ` from ${opening.used_from}`}.
          </span>
        )}
        {opening.kinds && ` Takes ${opening.kinds}.`}
        {opening.largest_file && ` Files up to ${size(opening.largest_file)}.`}
        {opening.largest_all && ` A delivery up to ${size(opening.largest_all)}.`}
      </p>
      {opening.coming !== undefined && opening.coming > 0 && (
        <p className="text-muted">
          {count(opening.coming, "upload")} under way, {size(opening.coming_bytes ?? 0)} of{" "}
          {opening.coming === 1 ? "it" : "them"} here. They end with it.
        </p>
      )}
      {opening.guessed_at && (
        <p className="mt-1 text-[14.5px] text-brick">
          Too many passwords were tried {when(opening.guessed_at)}.
        </p>
      )}
      <div className="mt-2 flex flex-wrap gap-2">
        {opening.state === "asleep" && (
          <Button look="primary" onClick={() => change.mutate({ confirmed: true })}>
            Confirm
          </Button>
        )}
        {ended ? (
          <Button onClick={() => change.mutate({ ended: false })}>Open it again</Button>
        ) : (
          <>
            <Button onClick={onEdit}>Change</Button>
            <Button onClick={() => change.mutate({ paused: opening.state !== "paused" })}>
              {opening.state === "paused" ? "Go on" : "Pause"}
            </Button>
            <Button look="quiet" className="hover:text-brick" onClick={() => change.mutate({ ended: true })}>
              End
            </Button>
          </>
        )}
      </div>
      {children}
    </section>
  );
}

function used(o: Opening): string {
  const word = o.kind === "link" ? "use" : "delivery";
  const times =
    o.kind === "link" ? count(o.used, "time") : count(o.used, word).replace("deliverys", "deliveries");
  if (o.most) return `${o.used} of ${o.most} ${o.kind === "link" ? "downloads" : "deliveries"}.`;
  if (o.used === 0) return "Not used yet.";
  return o.kind === "link" ? `Used ${times}.` : `${times}.`;
}

function MailForm({ opening, onDone }: { opening: Opening; onDone: () => void }) {
  const toast = useToast();
  const [to, setTo] = useState("");
  const [message, setMessage] = useState("");
  const sending = useMutation({
    mutationFn: () => outside.mail(opening.id, to.split(/[\s,;]+/).filter(Boolean), message.trim()),
    onSuccess: () => {
      toast.say("It is on its way.");
      onDone();
    },
  });
  const submit = (e: FormEvent) => {
    e.preventDefault();
    sending.mutate();
  };
  return (
    <form onSubmit={submit} className="mt-2 rounded-lg border border-line p-3">
      <Field
        label="To"
        value={to}
        placeholder="Mail addresses"
        onChange={(e) => setTo(e.target.value)}
        required
      />
      <Field
        className="mt-2"
        label="A word with it (optional)"
        value={message}
        onChange={(e) => setMessage(e.target.value)}
      />
      {sending.isError && <Notice error={sending.error} />}
      <div className="mt-3 flex justify-end gap-2">
        <Button onClick={onDone}>Cancel</Button>
        <Button type="submit" look="primary" disabled={sending.isPending || to.trim() === ""}>
          Send
        </Button>
      </div>
    </form>
  );
}
