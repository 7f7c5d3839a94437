import { Undo2, X } from "lucide-react";
import type { Node } from "../../lib/api";
import { count, exactly, size, when } from "../../lib/show";
import { Button, IconButton, type Act } from "../../ui";
import { OutsideSection } from "../outside/section";
import { ReachSection } from "../rights";
import { History } from "./history";
import { LockSection } from "./lock";
import { Preview } from "./preview";

interface Props {
  nodes: Node[];
  at?: string;
  mayEdit: boolean;
  mayRestore: boolean;
  mayLetGo: boolean;
  onClose: () => void;
  /** What can be done with them. */
  acts: Act[];
  onBringBack: (nodes: Node[]) => void;
  onRights: (node: Node) => void;
  onOutside?: (node: Node) => void;
  onChanged: () => Promise<void>;
}

/** The facts of what is selected. */
export function Drawer(props: Props) {
  const { nodes, at, mayEdit, mayRestore } = props;
  const only = nodes.length === 1 ? nodes[0]! : undefined;
  const total = nodes.reduce((n, x) => n + x.size, 0);
  return (
    <aside
      aria-label="Facts"
      className="w-[316px] shrink-0 border-l border-line bg-sheet p-5 max-md:fixed max-md:inset-x-0 max-md:bottom-0 max-md:z-30 max-md:max-h-[70vh] max-md:w-auto max-md:overflow-y-auto max-md:rounded-t-xl max-md:border max-md:shadow-xl"
    >
      {only && only.kind === "file" && <Preview node={only} at={at} />}
      <div className="mt-3 flex items-start gap-2">
        <h2 className="min-w-0 flex-1 font-bold break-words">
          {only ? only.name : `${nodes.length} selected`}
        </h2>
        <IconButton label="Close the facts" onClick={props.onClose} className="-mt-1.5 -mr-2">
          <X size={18} />
        </IconButton>
      </div>
      <p className="text-[14.5px] text-muted">
        {only?.sums
          ? `${count(only.sums.files, "file")}, ${count(only.sums.folders, "folder")}, ${size(only.size)}`
          : only
            ? kindOf(only)
            : size(total)}
      </p>
      {only?.held === false && (
        <p className="mt-2 rounded-lg bg-brick-wash p-2 text-[14.5px]">
          Another program changed this file on the disk before this state could be kept. Its bytes are gone.
        </p>
      )}
      <div className="-mx-1 mt-3 flex flex-wrap gap-1">
        {props.acts
          .filter((act) => !["bring", "outside", "rights"].includes(act.key))
          .map((act) => (
            <IconButton
              key={act.key}
              label={act.label}
              onClick={act.run}
              className={act.loss ? "hover:text-brick" : ""}
            >
              {act.icon}
            </IconButton>
          ))}
      </div>
      {at && mayRestore && (
        <Button className="mt-3 w-full" icon={<Undo2 size={18} />} onClick={() => props.onBringBack(nodes)}>
          Bring back {only ? "this state" : "the selection"}
        </Button>
      )}
      {only && !at && <ReachSection node={only.id} onMore={() => props.onRights(only)} />}
      {only && !at && props.onOutside && (
        <OutsideSection node={only.id} onMore={() => props.onOutside!(only)} />
      )}
      {only && !at && (
        <LockSection node={only} mayEdit={mayEdit} mayEnd={props.mayLetGo} onChanged={props.onChanged} />
      )}
      {only && (
        <History node={only} mayRestore={mayRestore} mayLetGo={props.mayLetGo} onChanged={props.onChanged} />
      )}
      {only && <Facts node={only} />}
    </aside>
  );
}

function kindOf(node: Node): string {
  const dot = node.name.lastIndexOf(".");
  const kind = dot > 0 ? node.name.slice(dot + 1).toUpperCase() : node.kind === "folder" ? "Folder" : "File";
  return node.kind === "folder" ? kind : `${kind}, ${size(node.size)}`;
}

function Facts({ node }: { node: Node }) {
  return (
    <section aria-label="Details" className="mt-5 text-[14.5px]">
      <h3 className="mb-1 font-semibold text-muted">Details</h3>
      <dl className="grid grid-cols-[auto_1fr] gap-x-4 gap-y-1">
        <dt className="text-muted">Size</dt>
        <dd className="text-right font-mono">{node.size.toLocaleString("en")} bytes</dd>
        {node.sums && (
          <>
            <dt className="text-muted">History</dt>
            <dd className="text-right font-mono">{size(node.sums.history_bytes)}</dd>
          </>
        )}
        {node.kind === "file" && (
          <>
            <dt className="text-muted">Modified</dt>
            <dd className="text-right" title={exactly(node.modified)}>
              {when(node.modified)}
            </dd>
          </>
        )}
        {node.blake3 && (
          <>
            <dt className="text-muted">BLAKE3</dt>
            <dd className="truncate text-right font-mono" title={node.blake3}>
              {node.blake3.slice(0, 16)}…
            </dd>
          </>
        )}
      </dl>
    </section>
  );
}
