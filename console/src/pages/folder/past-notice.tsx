import { History, Undo2 } from "lucide-react";
import type { Alarm } from "../../lib/kept";
import { count, moment, shortDay } from "../../lib/show";
import { Button } from "../../ui";

interface Props {
  /** The folder's name. */
  name: string;
  then: Date | undefined;
  /** The label of the snapshot that was taken then. */
  snapshot: string | undefined;
  /** The alarm before which this is the last moment. */
  alarm: Alarm | undefined;
  mayRestore: boolean;
  onRollBack: (() => void) | undefined;
  onNow: () => void;
}

/** That what is shown is the past, and what can be done about it. */
export function PastNotice({ name, then, snapshot, alarm, mayRestore, onRollBack, onNow }: Props) {
  return (
    <div role="status" className="flex flex-wrap items-center gap-3 bg-gold-wash px-6 py-2">
      <History size={18} aria-hidden />
      <span className="min-w-0 flex-1">
        <strong>
          {name} as it was on {then ? moment(then) : "that moment"}.
        </strong>{" "}
        {snapshot && `Snapshot "${snapshot}". `}
        {alarm
          ? `On ${shortDay(new Date(alarm.from))} ${alarm.device ?? "one browser"} changed ${count(alarm.files, "file")}. This is the last moment before.`
          : "Nothing can be changed in the past."}
        {alarm && !mayRestore && " Whoever may edit here can roll it back."}
      </span>
      {mayRestore && onRollBack && (
        <Button icon={<Undo2 size={18} />} onClick={onRollBack}>
          Roll back to here
        </Button>
      )}
      <Button onClick={onNow}>Back to now</Button>
    </div>
  );
}
