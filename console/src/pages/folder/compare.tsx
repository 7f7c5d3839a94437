import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { contentAddress, type Node, type State } from "../../lib/api";
import { kept, type Comparison } from "../../lib/kept";
import { lookOf, shownByBrowsers } from "../../lib/kinds";
import { count, moment, size } from "../../lib/show";
import { Button, Dialog, DialogActions, Loading, Notice } from "../../ui";
import { key } from "../../lib/query-keys";

/** An earlier state beside the present one: line by line, or one picture over the other. */
export default function Compare({ node, state, onClose }: { node: Node; state: State; onClose: () => void }) {
  const picture =
    lookOf(node.name) === "image" && shownByBrowsers(node.name) && shownByBrowsers(state.node.name);
  const then = moment(new Date(state.node.changed));
  return (
    <Dialog
      open
      onClose={onClose}
      title={node.name}
      description={`As it was on ${then} (${size(state.node.size)}), and as it is now (${size(node.size)}).`}
      wide
    >
      {picture ? <Pictures node={node} state={state} then={then} /> : <Texts node={node} state={state} />}
      <DialogActions>
        <Button onClick={onClose}>Close the comparison</Button>
      </DialogActions>
    </Dialog>
  );
}

function Texts({ node, state }: { node: Node; state: State }) {
  const found = useQuery({
    queryKey: key("comparison", node.id, state.node.moment, node.moment),
    queryFn: () => kept.compare(node.id, state.node.moment),
    retry: false,
  });
  if (found.isPending) return <Loading />;
  if (found.isError) return <Notice error={found.error} />;
  const { lines, removed, added } = found.data;
  if (lines.length === 0)
    return <p className="py-8 text-center text-muted">The two are the same, line by line.</p>;
  return (
    <>
      <p className="pb-2 text-[14.5px] text-muted">
        {count(removed, "line")} only then, {count(added, "line")} only now.
      </p>
      <div
        role="region"
        aria-label="Comparison"
        tabIndex={0}
        className="min-h-0 flex-1 overflow-auto rounded-lg border border-line font-mono text-[13.5px] leading-relaxed"
      >
        <table className="w-full border-collapse">
          <thead className="sr-only">
            <tr>
              <th>Line then</th>
              <th>Line now</th>
              <th>Change</th>
              <th>Text</th>
            </tr>
          </thead>
          <tbody>
            {lines.map((line, i) => (
              <Row key={i} line={line} />
            ))}
          </tbody>
        </table>
      </div>
    </>
  );
}

const signs = { same: "", removed: "−", added: "+", gap: "" };
const words = { same: "same", removed: "only then", added: "only now", gap: "left out" };

function Row({ line }: { line: Comparison["lines"][number] }) {
  if (line.what === "gap") {
    return (
      <tr className="bg-paper text-muted">
        <td colSpan={4} className="px-3 py-0.5 font-sans text-[13px]">
          {line.text} the same
        </td>
      </tr>
    );
  }
  const look = line.what === "removed" ? "bg-brick-wash" : line.what === "added" ? "bg-gold-wash" : "";
  return (
    <tr className={look}>
      <td className="w-10 px-2 text-right align-top text-muted select-none">{line.before ?? ""}</td>
      <td className="w-10 px-2 text-right align-top text-muted select-none">{line.after ?? ""}</td>
      <td className="w-5 align-top select-none">
        <span aria-hidden>{signs[line.what]}</span>
        <span className="sr-only">{words[line.what]}</span>
      </td>
      <td className="pr-3 break-words whitespace-pre-wrap">{line.text || " "}</td>
    </tr>
  );
}

/** One picture over the other; the line between them is moved. */
function Pictures({ node, state, then }: { node: Node; state: State; then: string }) {
  const [part, setPart] = useState(50);
  const before = contentAddress(node.id, state.node.moment);
  return (
    <div className="flex min-h-0 flex-1 flex-col items-center gap-3">
      <div className="relative inline-block min-h-0 overflow-hidden rounded-lg border border-line bg-paper">
        <img
          src={contentAddress(node.id)}
          alt={`${node.name}, now`}
          className="block max-h-[58vh] max-w-full"
        />
        <img
          src={before}
          alt={`${node.name}, ${then}`}
          className="absolute inset-0 size-full bg-paper object-contain object-left-top"
          style={{ clipPath: `inset(0 ${100 - part}% 0 0)` }}
        />
        <span className="absolute inset-y-0 w-0.5 bg-gold" style={{ left: `${part}%` }} aria-hidden />
      </div>
      <label className="flex w-full max-w-lg items-center gap-3 text-[14.5px]">
        <span>then</span>
        <input
          type="range"
          min={0}
          max={100}
          value={part}
          onChange={(e) => setPart(Number(e.target.value))}
          aria-label="How much of the earlier picture is shown"
          className="flex-1 accent-gold"
        />
        <span>now</span>
      </label>
    </div>
  );
}
