import { useVirtualizer } from "@tanstack/react-virtual";
import { Ellipsis } from "lucide-react";
import { useEffect, useRef, useState } from "react";
import type { Node } from "../../lib/api";
import { plain, size } from "../../lib/show";
import { ActsArea, ActsMenu, Face, FileIcon, IconButton, type Act } from "../../ui";
import { useSelecting, type Selecting } from "./selecting";

interface Props extends Selecting {
  past: boolean;
  acts: (nodes: Node[]) => Act[];
}

const wide = 172;
const high = 190;

/** A folder as pictures: for those that are looked at rather than read. */
export function Tiles(props: Props) {
  const { rows, past, selected, cursor, onSelect, onOpen, acts } = props;
  const ref = useRef<HTMLDivElement>(null);
  const [across, setAcross] = useState(1);
  useEffect(() => {
    const box = ref.current;
    if (!box) return;
    const watch = new ResizeObserver(() => setAcross(Math.max(2, Math.floor(box.clientWidth / wide))));
    watch.observe(box);
    return () => watch.disconnect();
  }, []);
  const lines = Math.ceil(rows.length / across);
  const virtual = useVirtualizer({
    count: lines,
    estimateSize: () => high,
    getScrollElement: () => document.getElementById("main"),
    scrollMargin: ref.current?.offsetTop ?? 0,
    overscan: 3,
  });
  const { onKeyDown, onClick } = useSelecting(
    props,
    { down: across, page: across * 3, across: true },
    (index) => virtual.scrollToIndex(Math.floor(index / across)),
  );
  return (
    <ActsArea label="What can be done" acts={() => acts(rows.filter((r) => selected.has(r.id)))}>
      <div
        ref={ref}
        role="grid"
        aria-rowcount={lines}
        aria-colcount={across}
        aria-label="Files and folders"
        aria-multiselectable
        aria-activedescendant={rows[cursor] ? `entry-${rows[cursor].id}` : undefined}
        tabIndex={0}
        data-testid="tiles"
        className="relative outline-offset-4"
        style={{ height: virtual.getTotalSize() }}
        onKeyDown={onKeyDown}
      >
        {virtual.getVirtualItems().map((line) => (
          <div
            key={line.key}
            role="row"
            aria-rowindex={line.index + 1}
            className="absolute inset-x-0 top-0 flex"
            style={{
              height: high,
              transform: `translateY(${line.start - virtual.options.scrollMargin}px)`,
            }}
          >
            {rows.slice(line.index * across, (line.index + 1) * across).map((node, i) => {
              const index = line.index * across + i;
              const on = selected.has(node.id);
              return (
                <div
                  key={node.id}
                  id={`entry-${node.id}`}
                  role="gridcell"
                  aria-selected={on}
                  data-name={node.name}
                  className="relative p-1.5"
                  style={{ width: `${100 / across}%` }}
                  onClick={(e) => onClick(e, index)}
                  onDoubleClick={() => onOpen(node)}
                  onContextMenu={() => {
                    if (!on) onSelect(new Set([node.id]), index);
                  }}
                >
                  <div
                    className={`flex h-full flex-col rounded-lg border p-1.5 ${on ? "border-gold bg-gold-wash" : "border-line bg-sheet hover:border-muted"} ${index === cursor ? "outline-2 outline-offset-1 outline-line" : ""}`}
                  >
                    <span
                      data-face
                      className="flex min-h-0 flex-1 items-center justify-center overflow-hidden rounded text-muted"
                    >
                      {past ? (
                        <FileIcon name={node.name} kind={node.kind} size={44} />
                      ) : (
                        <Face node={node} size={44} className="size-full" />
                      )}
                    </span>
                    <span className="mt-1 truncate pr-8 text-[14.5px]" title={plain(node.name)}>
                      {plain(node.name)}
                    </span>
                    <span className="pr-8 font-mono text-[13px] text-muted">
                      {node.kind === "folder" && !node.sums ? "" : size(node.size)}
                    </span>
                  </div>
                  <span
                    className="absolute right-2.5 bottom-2.5"
                    onClick={(e) => e.stopPropagation()}
                    onDoubleClick={(e) => e.stopPropagation()}
                  >
                    <ActsMenu
                      label={`What can be done with ${node.name}`}
                      acts={() => acts(on ? rows.filter((r) => selected.has(r.id)) : [node])}
                      trigger={
                        <IconButton label={`Menu of ${node.name}`} tabIndex={-1}>
                          <Ellipsis size={18} />
                        </IconButton>
                      }
                    />
                  </span>
                </div>
              );
            })}
          </div>
        ))}
      </div>
    </ActsArea>
  );
}

const kept = "attic-tiles";

/** Whether a folder is shown as pictures: remembered for each in this browser. */
export function useTiles(folder: number | undefined): [boolean, (on: boolean) => void] {
  const read = () => JSON.parse(localStorage.getItem(kept) ?? "{}") as Record<string, boolean>;
  const [all, setAll] = useState(read);
  const on = folder !== undefined && (all[folder] ?? false);
  return [
    on,
    (next) => {
      // The latest 500 folders.
      const others = Object.entries(read())
        .filter(([id]) => id !== `${folder}`)
        .slice(-499);
      const now = Object.fromEntries([...others, [`${folder}`, next]]);
      localStorage.setItem(kept, JSON.stringify(now));
      setAll(now);
    },
  ];
}
