import { useRef, type KeyboardEvent, type MouseEvent } from "react";
import type { Node } from "../../lib/api";

export interface Selecting {
  rows: Node[];
  selected: ReadonlySet<number>;
  cursor: number;
  onSelect: (ids: ReadonlySet<number>, cursor: number) => void;
  onOpen: (node: Node) => void;
  onKey: (act: "remove" | "rename" | "up") => void;
}

/** Choosing among entries by keys and pointer, the same however they are drawn. */
export function useSelecting(
  { rows, selected, cursor, onSelect, onOpen, onKey }: Selecting,
  /** How far each key moves; of what is drawn across, left and right move too. */
  steps: { down: number; page: number; across: boolean },
  /** Brings an entry into sight. */
  show: (index: number) => void,
) {
  const anchor = useRef(0);
  const range = (a: number, b: number) =>
    new Set(rows.slice(Math.min(a, b), Math.max(a, b) + 1).map((r) => r.id));
  const to = (index: number, extend: boolean) => {
    const next = Math.max(0, Math.min(rows.length - 1, index));
    if (!extend) anchor.current = next;
    onSelect(extend ? range(anchor.current, next) : new Set([rows[next]!.id]), next);
    show(next);
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
    const first = selected.size === 0;
    const acts: Record<string, () => void> = {
      ArrowDown: () => to(first ? cursor : cursor + steps.down, e.shiftKey),
      ArrowUp: () => to(cursor - steps.down, e.shiftKey),
      ...(steps.across && {
        ArrowRight: () => to(first ? cursor : cursor + 1, e.shiftKey),
        ArrowLeft: () => to(cursor - 1, e.shiftKey),
      }),
      Home: () => to(0, e.shiftKey),
      End: () => to(rows.length - 1, e.shiftKey),
      PageDown: () => to(cursor + steps.page, e.shiftKey),
      PageUp: () => to(cursor - steps.page, e.shiftKey),
      Enter: () => row && onOpen(row),
      " ": () => row && toggle(cursor),
      Delete: () => onKey("remove"),
      F2: () => onKey("rename"),
      Backspace: () => onKey("up"),
      Escape: () => onSelect(new Set(), cursor),
    };
    if ((e.ctrlKey || e.metaKey) && e.key === "a")
      acts["a"] = () => onSelect(new Set(rows.map((r) => r.id)), cursor);
    const act = acts[e.key];
    if (act) {
      e.preventDefault();
      act();
    }
  };
  const onClick = (e: MouseEvent, index: number) => {
    const node = rows[index]!;
    const touched = (e.nativeEvent as PointerEvent).pointerType === "touch";
    // A finger opens a folder by its name, and selects it by its picture.
    if (touched && node.kind === "folder" && !(e.target as Element).closest("[data-face]")) onOpen(node);
    else if (e.shiftKey) to(index, true);
    else if (e.ctrlKey || e.metaKey) toggle(index);
    else to(index, false);
  };
  return { onKeyDown, onClick };
}
