import { Lock, LockOpen } from "lucide-react";
import { useState } from "react";
import { api, type Node } from "../../lib/api";
import { exactly, when } from "../../lib/show";
import { Button, Notice } from "../../ui";

interface Props {
  node: Node;
  mayEdit: boolean;
  /** Whether everybody's locks can be ended: by whoever manages the folder. */
  mayEnd: boolean;
  onChanged: () => Promise<void>;
}

/** Who holds a lock on something, and the way to take or end one. */
export function LockSection({ node, mayEdit, mayEnd, onChanged }: Props) {
  const [busy, setBusy] = useState(false);
  const [failed, setFailed] = useState<unknown>();
  const lock = node.locked;
  if (!lock && !mayEdit) return null;
  const above = lock && lock.node !== node.id;
  const run = async (act: () => Promise<unknown>) => {
    setBusy(true);
    setFailed(undefined);
    await act().then(onChanged, setFailed);
    setBusy(false);
  };
  return (
    <section aria-label="Lock" className="mt-4 text-[14.5px]">
      <h3 className="mb-1 font-semibold text-muted">Lock</h3>
      {lock ? (
        <p>
          {lock.mine ? "You hold it" : `${lock.by} holds it`}
          {lock.program ? ", by a program" : ""}
          {above ? ", on a folder above" : ""}. It ends by itself{" "}
          <span title={exactly(lock.until)}>{when(lock.until)}</span>. Until then{" "}
          {lock.mine && !lock.program ? "nobody else changes this." : "other changes are refused."}
        </p>
      ) : (
        <p className="text-muted">Nobody keeps others from changing it.</p>
      )}
      {failed !== undefined && <Notice error={failed} />}
      {lock && !above && (lock.mine || mayEnd) && (
        <Button
          className="mt-2 w-full"
          disabled={busy}
          icon={<LockOpen size={17} />}
          onClick={() => void run(() => api.unlock(node.id))}
        >
          End the lock
        </Button>
      )}
      {!lock && (
        <Button
          className="mt-2 w-full"
          disabled={busy}
          icon={<Lock size={17} />}
          onClick={() => void run(() => api.lock(node.id, 60))}
        >
          Lock for an hour
        </Button>
      )}
    </section>
  );
}
