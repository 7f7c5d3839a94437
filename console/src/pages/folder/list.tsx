import { useVirtualizer } from "@tanstack/react-virtual";
import { ArrowDown, ArrowUp, Ellipsis, Lock, Users } from "lucide-react";
import { useRef, type DragEvent } from "react";
import type { HeldLock, Node, Sorting } from "../../lib/api";
import { useSpringOpen } from "../../lib/dragging";
import { count, exactly, plain, size, when } from "../../lib/show";
import { ActsArea, ActsMenu, Chip, Face, FileIcon, IconButton, type Act } from "../../ui";
import { useSelecting, type Selecting } from "./selecting";

interface Props extends Selecting {
  past: boolean;
  sorting: Sorting;
  more: boolean;
  onSort: (sorting: Sorting) => void;
  /** Dragging begins with these; a folder may take what is dragged. */
  onDrag?: (nodes: Node[]) => void;
  onDrop?: (folder: Node, event: DragEvent) => void;
  /** All that can be done with some of them. */
  acts: (nodes: Node[]) => Act[];
}

const rowHeight = 42;
const columns =
  "grid grid-cols-[minmax(0,1fr)_126px_92px_164px_150px_40px] max-lg:grid-cols-[minmax(0,1fr)_92px_164px_40px] max-sm:grid-cols-[minmax(0,1fr)_86px_40px]";

/** The entries of a folder: only what is in sight is in the page, however many there are. */
export function List(props: Props) {
  const { rows, past, selected, cursor, sorting, more, onSort, onSelect, onOpen } = props;
  const spring = useSpringOpen();
  const ref = useRef<HTMLDivElement>(null);
  const virtual = useVirtualizer({
    count: rows.length,
    estimateSize: () => rowHeight,
    getScrollElement: () => document.getElementById("main"),
    scrollMargin: ref.current?.offsetTop ?? 0,
    overscan: 12,
  });
  const items = virtual.getVirtualItems();
  const { onKeyDown, onClick } = useSelecting(props, { down: 1, page: 12, across: false }, (index) =>
    virtual.scrollToIndex(index),
  );

  const head = (word: string, by: Sorting["sort"], className: string) => {
    const on = sorting.sort === by && !past;
    const Arrow = sorting.order === "up" ? ArrowUp : ArrowDown;
    return (
      <div
        role="columnheader"
        aria-sort={on ? (sorting.order === "up" ? "ascending" : "descending") : undefined}
        className={className}
      >
        {past ? (
          word
        ) : (
          <button
            type="button"
            className="inline-flex items-center gap-1 font-semibold hover:text-ink"
            onClick={() => onSort({ sort: by, order: on && sorting.order === "up" ? "down" : "up" })}
          >
            {word}
            {on && <Arrow size={14} aria-hidden />}
          </button>
        )}
      </div>
    );
  };

  return (
    <div
      role="grid"
      aria-label="Files and folders"
      aria-multiselectable
      aria-rowcount={more ? -1 : rows.length + 1}
      aria-activedescendant={rows[cursor] ? `entry-${rows[cursor].id}` : undefined}
      tabIndex={0}
      data-testid="list"
      className="outline-offset-4"
      onKeyDown={onKeyDown}
    >
      <div role="rowgroup">
        <div
          role="row"
          className={`${columns} border-b border-line px-2 pb-2 text-[14px] font-semibold text-muted`}
        >
          {head("Name", "name", "")}
          <div role="columnheader" className="max-lg:hidden">
            <span className="sr-only">Remarks</span>
          </div>
          {head("Size", "size", "text-right")}
          {head("Changed", "changed", "pl-4 max-sm:hidden")}
          <div role="columnheader" className="max-lg:hidden">
            By
          </div>
          <div role="columnheader">
            <span className="sr-only">Menu</span>
          </div>
        </div>
      </div>
      <ActsArea label="What can be done" acts={() => props.acts(rows.filter((r) => selected.has(r.id)))}>
        <div ref={ref} role="rowgroup" className="relative" style={{ height: virtual.getTotalSize() }}>
          {items.map((item) => {
            const node = rows[item.index]!;
            const on = selected.has(node.id);
            return (
              <div
                key={node.id}
                id={`entry-${node.id}`}
                role="row"
                aria-selected={on}
                aria-rowindex={item.index + 2}
                data-name={node.name}
                draggable={props.onDrag !== undefined}
                onDragStart={(e) => {
                  const these = on ? rows.filter((r) => selected.has(r.id)) : [node];
                  if (!on) onSelect(new Set([node.id]), item.index);
                  e.dataTransfer.effectAllowed = "copyMove";
                  e.dataTransfer.setData("text/plain", these.map((n) => n.name).join("\n"));
                  props.onDrag?.(these);
                }}
                {...(node.kind === "folder" && props.onDrop
                  ? spring(
                      `${node.id}`,
                      () => onOpen(node),
                      (e) => props.onDrop?.(node, e),
                    )
                  : {})}
                className={`${columns} absolute inset-x-0 top-0 cursor-default items-center border-b border-line px-2 data-[over]:bg-gold-wash data-[over]:outline-2 data-[over]:outline-gold ${on ? "bg-gold-wash" : "hover:bg-sheet"}`}
                style={{
                  height: rowHeight,
                  transform: `translateY(${item.start - virtual.options.scrollMargin}px)`,
                }}
                onClick={(e) => onClick(e, item.index)}
                onDoubleClick={() => onOpen(node)}
                // The menu is of what is selected: the row under the pointer, if it is not among it.
                onContextMenu={() => {
                  if (!on) onSelect(new Set([node.id]), item.index);
                }}
              >
                <div role="gridcell" className="flex min-w-0 items-center gap-3">
                  <span
                    data-face
                    className="flex size-[30px] shrink-0 items-center justify-center overflow-hidden rounded text-muted"
                  >
                    {past ? (
                      <FileIcon name={node.name} kind={node.kind} />
                    ) : (
                      <Face node={node} className="size-full" />
                    )}
                  </span>
                  <span className="truncate" title={plain(node.name)}>
                    {plain(node.name)}
                  </span>
                  {node.given && !past && (
                    <span className="shrink-0 text-teal" title={givenWords[node.given]}>
                      <Users size={16} aria-label={givenWords[node.given]} />
                    </span>
                  )}
                  {node.locked && !past && (
                    <span className="shrink-0 text-muted" title={lockWords(node.locked)}>
                      <Lock size={15} aria-label={lockWords(node.locked)} />
                    </span>
                  )}
                  {node.sums && (
                    <span className="shrink-0 text-[14px] text-muted max-sm:hidden">
                      {count(node.sums.files, "file")}
                    </span>
                  )}
                </div>
                <div role="gridcell" className="max-lg:hidden">
                  <Remark node={node} />
                </div>
                <div
                  role="gridcell"
                  className="text-right font-mono text-[14px]"
                  title={
                    node.kind === "folder" && !node.sums
                      ? "Not shown: part of it is not yours to see"
                      : `${node.size.toLocaleString("en")} bytes`
                  }
                >
                  {node.kind === "folder" && (past || !node.sums) ? "" : size(node.size)}
                </div>
                <div role="gridcell" className="truncate pl-4 max-sm:hidden" title={exactly(node.changed)}>
                  {when(node.changed)}
                </div>
                <div role="gridcell" className="truncate text-muted max-lg:hidden" title={node.by}>
                  {node.by}
                </div>
                <div
                  role="gridcell"
                  className="flex justify-end"
                  onClick={(e) => e.stopPropagation()}
                  onDoubleClick={(e) => e.stopPropagation()}
                >
                  <ActsMenu
                    label={`What can be done with ${node.name}`}
                    acts={() => props.acts(on ? rows.filter((r) => selected.has(r.id)) : [node])}
                    trigger={
                      <IconButton label={`Menu of ${node.name}`} tabIndex={-1}>
                        <Ellipsis size={18} />
                      </IconButton>
                    }
                  />
                </div>
              </div>
            );
          })}
        </div>
      </ActsArea>
    </div>
  );
}

function lockWords(lock: HeldLock): string {
  return `locked by ${lock.mine ? "you" : lock.by}`;
}

const givenWords = {
  out: "given to others",
  in: "given to you",
  both: "given to you and others",
};

function Remark({ node }: { node: Node }) {
  if (node.held === false) return <Chip look="brick">bytes lost on disk</Chip>;
  switch (node.since_then) {
    case "different":
      return <Chip look="gold">different now</Chip>;
    case "moved":
      return <Chip look="gold">moved since</Chip>;
    case "inside":
      return <Chip look="gold">changed inside</Chip>;
    case "removed":
      return <Chip look="brick">removed since</Chip>;
    case "same":
      return <span className="text-[14px] text-muted">same</span>;
    default:
      return null;
  }
}
