/** Dragging files and folders about: folders that open when one waits above them. */

import { useRef, useState, type DragEvent } from "react";
import type { Node } from "./api";

/** A folder opens when something is held above it this long. */
const springMs = 900;

let dragged: Node[] = [];

/** What is being dragged; it stays known while folders open on the way. */
export const dragging = {
  begin: (nodes: Node[]) => {
    dragged = nodes;
  },
  take: (): Node[] => {
    const nodes = dragged;
    dragged = [];
    return nodes;
  },
  has: () => dragged.length > 0,
  includes: (id: number) => dragged.some((n) => n.id === id),
};

/** Handlers that make something take what is dropped, and open when one waits above it. */
export function useSpringOpen() {
  const [over, setOver] = useState<string>();
  const timer = useRef<ReturnType<typeof setTimeout>>(undefined);
  const leave = () => {
    clearTimeout(timer.current);
    setOver(undefined);
  };
  return (key: string, open: () => void, drop: (e: DragEvent) => void) => ({
    "data-over": over === key || undefined,
    onDragOver: (e: DragEvent) => {
      const files = e.dataTransfer.types.includes("Files");
      if (!files && (!dragging.has() || dragging.includes(Number(key)))) return;
      e.preventDefault();
      e.stopPropagation();
      e.dataTransfer.dropEffect = files || e.ctrlKey || e.altKey ? "copy" : "move";
      if (over === key) return;
      clearTimeout(timer.current);
      setOver(key);
      timer.current = setTimeout(open, springMs);
    },
    onDragLeave: (e: DragEvent) => {
      if (!e.currentTarget.contains(e.relatedTarget as globalThis.Node | null)) leave();
    },
    onDrop: (e: DragEvent) => {
      e.preventDefault();
      e.stopPropagation();
      leave();
      drop(e);
    },
  });
}
