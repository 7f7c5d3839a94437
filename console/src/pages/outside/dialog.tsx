import { useQuery, useQueryClient } from "@tanstack/react-query";
import { Inbox, Link2 } from "lucide-react";
import { useState } from "react";
import { outside, type Opening, type OpeningKind } from "../../lib/outside";
import type { Wish } from "../../lib/wish";
import { Button, Dialog, DialogActions, Loading, Notice } from "../../ui";
import { OpeningForm } from "./form";
import { OpeningShown } from "./shown";
import { key } from "../../lib/query-keys";

interface Props {
  node: number;
  name: string;
  folder: boolean;
  /** One that is asked for: it is filled in. */
  wish?: Wish;
  onClose: () => void;
}

/** Links and intakes of one file or folder: making one, and deciding over those there are. */
export default function OutsideDialog({ node, name, folder, wish, onClose }: Props) {
  const queries = useQueryClient();
  const found = useQuery({ queryKey: key("openings", node), queryFn: () => outside.openings({ node }) });
  const [making, setMaking] = useState<OpeningKind | undefined>(
    wish?.give === "intake" || wish?.give === "link" ? wish.give : undefined,
  );
  const [editing, setEditing] = useState<Opening>();
  const done = async () => {
    await queries.invalidateQueries({ queryKey: key("openings") });
    await queries.invalidateQueries({ queryKey: key("given") });
    setMaking(undefined);
    setEditing(undefined);
  };
  const form = editing?.kind ?? making;
  const title = editing
    ? `Change the ${editing.kind}`
    : making
      ? `New ${making} ${making === "link" ? "to" : "for"} "${name}"`
      : `"${name}" for people outside`;
  const all = found.data?.openings ?? [];
  return (
    <Dialog
      open
      onClose={onClose}
      title={title}
      description={
        form
          ? undefined
          : "A link gives it out to whoever has the address; an intake lets them hand files in, seeing nothing of what is here."
      }
    >
      {form ? (
        <OpeningForm
          kind={form}
          node={node}
          folder={folder}
          opening={editing}
          wish={editing ? undefined : wish}
          onDone={() => void done()}
          onCancel={() => {
            setMaking(undefined);
            setEditing(undefined);
          }}
        />
      ) : (
        <>
          <div className="min-h-0 overflow-y-auto">
            {found.isPending && <Loading rows={2} />}
            {found.isError && <Notice error={found.error} retry={() => void found.refetch()} />}
            {found.data && all.length === 0 && <p className="text-muted">Nothing of it is given out.</p>}
            {all.map((o) => (
              <OpeningShown key={o.id} opening={o} onEdit={() => setEditing(o)} />
            ))}
          </div>
          <DialogActions>
            {folder && (
              <Button icon={<Inbox size={18} />} onClick={() => setMaking("intake")}>
                New intake
              </Button>
            )}
            <Button look="primary" icon={<Link2 size={18} />} onClick={() => setMaking("link")}>
              New link
            </Button>
          </DialogActions>
        </>
      )}
    </Dialog>
  );
}
