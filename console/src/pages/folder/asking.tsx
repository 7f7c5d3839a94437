import { Suspense, lazy } from "react";
import type { Facts, Node } from "../../lib/api";
import type { Wish } from "../../lib/wish";
import { RightsDialog } from "../rights";
import { ChooseFolder, NewFolder, Rename } from "./dialogs";
import { Editor } from "./editor";
import { QuickLink } from "./quick-link";

const SnapshotsDialog = lazy(() => import("./snapshots").then((m) => ({ default: m.SnapshotsDialog })));
const OutsideDialog = lazy(() => import("../outside/dialog"));

/** What the folder's page asks in a dialog. */
export type Asking =
  | { kind: "new" | "snapshots" }
  | { kind: "rename" | "edit" | "link"; node: Node }
  | { kind: "rights" | "outside"; node: Node; wish?: Wish }
  | { kind: "move" | "copy"; nodes: Node[] };

interface Props {
  asking: Asking | undefined;
  place: Facts | undefined;
  /** The top of the shelf. */
  top: number | undefined;
  mayManage: boolean;
  onAsk: (asking: Asking | undefined) => void;
  /** To the folder as it was. */
  onGo: (moment: string | undefined) => void;
  onDone: () => Promise<void>;
  /** Something went elsewhere. */
  onMoved: () => void;
}

/** The dialog that is open, if one is. */
export function Dialogs({ asking, place, top, mayManage, onAsk, onGo, onDone, onMoved }: Props) {
  if (!asking) return null;
  const close = () => onAsk(undefined);
  return (
    <>
      {asking.kind === "snapshots" && top !== undefined && (
        <Suspense>
          <SnapshotsDialog
            root={top}
            mayManage={mayManage}
            onGo={(to) => {
              close();
              onGo(to);
            }}
            onClose={close}
          />
        </Suspense>
      )}
      {asking.kind === "edit" && <Editor node={asking.node} onClose={close} onDone={onDone} />}
      {place && asking.kind === "new" && <NewFolder parent={place.node.id} onClose={close} onDone={onDone} />}
      {asking.kind === "rights" && (
        <RightsDialog
          node={asking.node.id}
          name={asking.node.name}
          folder={asking.node.kind === "folder"}
          top={asking.node.parent === undefined}
          wish={asking.wish}
          onClose={close}
        />
      )}
      {asking.kind === "outside" && (
        <Suspense>
          <OutsideDialog
            node={asking.node.id}
            name={asking.node.name}
            folder={asking.node.kind === "folder"}
            wish={asking.wish}
            onClose={close}
          />
        </Suspense>
      )}
      {asking.kind === "link" && (
        <QuickLink
          node={asking.node}
          onClose={close}
          onMore={() => onAsk({ kind: "outside", node: asking.node })}
        />
      )}
      {asking.kind === "rename" && <Rename node={asking.node} onClose={close} onDone={onDone} />}
      {(asking.kind === "move" || asking.kind === "copy") && place && (
        <ChooseFolder
          act={asking.kind}
          nodes={asking.nodes}
          start={place}
          onClose={close}
          onDone={async () => {
            onMoved();
            await onDone();
          }}
        />
      )}
    </>
  );
}
