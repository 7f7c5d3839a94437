import { useQuery } from "@tanstack/react-query";
import { Link2 } from "lucide-react";
import { outside } from "../../lib/outside";
import { Button, Notice } from "../../ui";
import { State } from "./state";
import { key } from "../../lib/query-keys";

/** In the facts of something: the links and intakes of it, and the way to make one. */
export function OutsideSection({ node, onMore }: { node: number; onMore: () => void }) {
  const found = useQuery({ queryKey: key("openings", node), queryFn: () => outside.openings({ node }) });
  const live = (found.data?.openings ?? []).filter((o) => o.state !== "ended");
  return (
    <section aria-label="Links and intakes" className="mt-5 text-[14.5px]">
      <h3 className="mb-1 font-semibold text-muted">For people outside</h3>
      {found.isError && <Notice error={found.error} />}
      {found.data && live.length === 0 && <p>Nothing is given out by an address.</p>}
      <ul>
        {live.slice(0, 4).map((o) => (
          <li key={o.id} className="flex items-center gap-2 py-0.5">
            <span className="min-w-0 flex-1 truncate">
              {o.kind === "link" ? "Link" : "Intake"}
              {o.title && `, ${o.title}`}
            </span>
            <State state={o.state} why={o.sentence} />
          </li>
        ))}
      </ul>
      <Button className="mt-2 w-full" icon={<Link2 size={18} />} onClick={onMore}>
        Links and intakes
      </Button>
    </section>
  );
}
