import { useVirtualizer } from "@tanstack/react-virtual";
import { Ellipsis } from "lucide-react";
import { useEffect, useRef, useState, type KeyboardEvent, type MouseEvent } from "react";
import type { Node } from "../../lib/api";
import { plain, size } from "../../lib/show";
import { ActsArea, ActsMenu, Face, FileIcon, IconButton, type Act } from "../../ui";

interface Props {
  rows: Node[];
  past: boolean;
  selected: ReadonlySet<number>;
  cursor: number;
  onSelect: (ids: ReadonlySet<number>, cursor: number) => void;
  onOpen: (node: Node) => void;
  onKey: (act: "remove" | "rename" | "up") => void;
  acts: (nodes: Node[]) => Act[];
}

const wide = 172;
const high = 190;

/** A folder as pictures: for those that are looked at rather than read. */
export function Tiles({ rows, past, selected, cursor, onSelect, onOpen, onKey, acts }: Props) {
  const ref = useRef<HTMLDivElement>(null);
  const anchor = useRef(0);
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
  const range = (a: number, b: number) =>
    new Set(rows.slice(Math.min(a, b), Math.max(a, b) + 1).map((r) => r.id));
  const to = (index: number, extend: boolean) => {
    const next = Math.max(0, Math.min(rows.length - 1, index));
    if (!extend) anchor.current = next;
    onSelect(extend ? range(anchor.current, next) : new Set([rows[next]!.id]), next);
    virtual.scrollToIndex(Math.floor(next / across));
  };
  const toggle = (index: number) => {
    const next = new Set(selected);
    const id = rows[index]!.id;
    if (!next.delete(id)) next.add(id);
    anchor.current = index;
    onSelect(next, index);
  };
  const onKeyDown = (e: KeyboardEvent) => {
    const row = rows[cursor];
    const known: Record<string, () => void> = {
      ArrowRight: () => to(selected.size === 0 ? cursor : cursor + 1, e.shiftKey),
      ArrowLeft: () => to(cursor - 1, e.shiftKey),
      ArrowDown: () => to(cursor + across, e.shiftKey),
      ArrowUp: () => to(cursor - across, e.shiftKey),
      Home: () => to(0, e.shiftKey),
      End: () => to(rows.length - 1, e.shiftKey),
      Enter: () => row && onOpen(row),
      " ": () => row && toggle(cursor),
      Delete: () => onKey("remove"),
      F2: () => onKey("rename"),
      Backspace: () => onKey("up"),
      Escape: () => onSelect(new Set(), cursor),
    };
    if ((e.ctrlKey || e.metaKey) && e.key === "a")
      known["a"] = () => onSelect(new Set(rows.map((r) => r.id)), cursor);
    const act = known[e.key];
    if (act) {
      e.preventDefault();
      act();
    }
  };
  const onClick = (e: MouseEvent, index: number) => {
    const touched = (e.nativeEvent as PointerEvent).pointerType === "touch";
    if (touched && rows[index]!.kind === "folder") onOpen(rows[index]!);
    else if (e.shiftKey) to(index, true);
    else if (e.ctrlKey || e.metaKey) toggle(index);
    else to(index, false);
  };
  return (
    <ActsArea label="What can be done" acts={() => acts(rows.filter((r) => selected.has(r.id)))}>
      <div
        ref={ref}
        role="listbox"
        aria-label="Files and folders"
        aria-multiselectable
        aria-activedescendant={rows[cursor] ? `entry-${rows[cursor].id}` : undefined}
        tabIndex={0}
        data-testid="tiles"
        className="relative outline-offset-4"
        style={{ height: virtual.getTotalSize() }}
        onKeyDown={onKeyDown}
      >
        {virtual.getVirtualItems().flatMap((line) =>
          rows.slice(line.index * across, (line.index + 1) * across).map((node, i) => {
            const index = line.index * across + i;
            const on = selected.has(node.id);
            return (
              <div
                key={node.id}
                className="group absolute top-0 p-1.5"
                style={{
                  width: `${100 / across}%`,
                  left: `${(100 * i) / across}%`,
                  height: high,
                  transform: `translateY(${line.start - virtual.options.scrollMargin}px)`,
                }}
              >
                <div
                  id={`entry-${node.id}`}
                  role="option"
                  aria-selected={on}
                  data-name={node.name}
                  className={`flex h-full flex-col rounded-lg border p-1.5 ${on ? "border-gold bg-gold-wash" : "border-line bg-sheet hover:border-muted"} ${index === cursor ? "outline-2 outline-offset-1 outline-line" : ""}`}
                  onClick={(e) => onClick(e, index)}
                  onDoubleClick={() => onOpen(node)}
                  onContextMenu={() => {
                    if (!on) onSelect(new Set([node.id]), index);
                  }}
                >
                  <span className="flex min-h-0 flex-1 items-center justify-center overflow-hidden rounded text-muted">
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
                <span className="absolute right-2.5 bottom-2.5">
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
          }),
        )}
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
