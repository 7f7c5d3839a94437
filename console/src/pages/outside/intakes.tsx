import { useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { Link } from "wouter";
import { outside, type Opening } from "../../lib/outside";
import { pageAt } from "../../lib/place";
import { count, exactly, size, when } from "../../lib/show";
import { Chip, Dialog, Empty, Loading, Notice } from "../../ui";
import { OpeningForm } from "./form";
import { OpeningShown } from "./shown";
import { key } from "../../lib/query-keys";

/** One's intakes, and what was handed in at each. */
export function Intakes() {
  const queries = useQueryClient();
  const found = useQuery({
    queryKey: key("openings", "intake"),
    queryFn: () => outside.openings({ kind: "intake" }),
  });
  const [editing, setEditing] = useState<Opening>();
  const done = async () => {
    await queries.invalidateQueries({ queryKey: key("openings") });
    setEditing(undefined);
  };
  return (
    <>
      <p className="max-w-2xl text-muted">
        An intake is a page on which people outside hand files in. Each delivery gets a folder of its own;
        nobody sees what others have sent.
      </p>
      {found.isPending && <Loading rows={3} />}
      {found.isError && <Notice error={found.error} retry={() => void found.refetch()} />}
      {found.data?.openings.length === 0 && (
        <Empty title="No intake yet">
          Open the folder into which files are to come, choose Links, then New intake. Its address can be sent
          to anybody.
        </Empty>
      )}
      <div className="mt-2">
        {found.data?.openings.map((o) => (
          <OpeningShown key={o.id} level="h2" opening={o} onEdit={() => setEditing(o)}>
            <Deliveries intake={o} />
          </OpeningShown>
        ))}
      </div>
      {editing && (
        <Dialog open onClose={() => setEditing(undefined)} title="Change the intake">
          <OpeningForm
            kind="intake"
            node={editing.node}
            folder
            opening={editing}
            onDone={() => void done()}
            onCancel={() => setEditing(undefined)}
          />
        </Dialog>
      )}
    </>
  );
}

function Deliveries({ intake }: { intake: Opening }) {
  const found = useQuery({
    queryKey: key("deliveries", intake.id),
    queryFn: () => outside.deliveries(intake.id),
  });
  const [all, setAll] = useState(false);
  const deliveries = found.data?.deliveries ?? [];
  const shown = all ? deliveries : deliveries.slice(0, 5);
  if (found.isPending) return <Loading rows={2} />;
  if (found.isError) return <Notice error={found.error} />;
  if (deliveries.length === 0)
    return <p className="mt-3 text-[14.5px] text-muted">Nothing was handed in yet.</p>;
  return (
    <div className="mt-3">
      <h3 className="text-[14.5px] font-semibold text-muted">
        Handed in
        {intake.path && (
          <>
            , into{" "}
            <Link href={pageAt(intake.path, true, intake.node)} className="text-teal underline">
              {intake.path}
            </Link>
          </>
        )}
      </h3>
      <ul>
        {shown.map((d) => (
          <li
            key={d.id}
            className="grid grid-cols-[1.5fr_1fr_1fr_auto] items-baseline gap-x-4 border-t border-line py-2 max-md:grid-cols-[1fr_auto]"
          >
            <span className="min-w-0">
              <span className="block truncate font-semibold">{d.sender}</span>
              {d.mail && <span className="block truncate text-[14px] text-muted">{d.mail}</span>}
            </span>
            <span className="max-md:order-3">
              {count(d.files, "file")}, {size(d.bytes)}
            </span>
            <span className="text-[14.5px] text-muted max-md:order-4 max-md:text-right">
              <span title={exactly(d.done ?? d.begun)}>{when(d.done ?? d.begun)}</span>
              <span className="block">from {d.from}</span>
            </span>
            <span className="text-right">
              <Chip look={d.state === "under way" ? "gold" : d.state === "done" ? "plain" : "brick"}>
                {d.state}
              </Chip>
            </span>
          </li>
        ))}
      </ul>
      {deliveries.length > shown.length && (
        <button type="button" className="py-1 text-teal hover:underline" onClick={() => setAll(true)}>
          {deliveries.length - shown.length} more
        </button>
      )}
    </div>
  );
}
