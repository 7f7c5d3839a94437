import { Minus, Plus, Scan } from "lucide-react";
import { useEffect, useLayoutEffect, useRef, useState } from "react";
import { IconButton } from "../../ui";

/** A picture, to be looked at closely: zoomed by buttons, keys or the wheel, moved by scrolling. */
export function Picture({ address, name }: { address: string; name: string }) {
  const [zoom, setZoom] = useState(1);
  const [failed, setFailed] = useState(false);
  const box = useRef<HTMLDivElement>(null);
  useEffect(() => {
    setZoom(1);
    setFailed(false);
  }, [address]);
  const by = (factor: number) => setZoom((z) => Math.min(8, Math.max(1, z * factor)));
  // What was in the middle stays there.
  const before = useRef(1);
  useLayoutEffect(() => {
    const element = box.current;
    if (!element) return;
    const ratio = zoom / before.current;
    before.current = zoom;
    element.scrollLeft = (element.scrollLeft + element.clientWidth / 2) * ratio - element.clientWidth / 2;
    element.scrollTop = (element.scrollTop + element.clientHeight / 2) * ratio - element.clientHeight / 2;
  }, [zoom]);
  useEffect(() => {
    const element = box.current;
    if (!element) return;
    const onWheel = (e: WheelEvent) => {
      if (!e.ctrlKey) return;
      e.preventDefault();
      by(e.deltaY < 0 ? 1.2 : 1 / 1.2);
    };
    element.addEventListener("wheel", onWheel, { passive: false });
    return () => element.removeEventListener("wheel", onWheel);
  }, []);
  if (failed) {
    return (
      <p className="py-16 text-center text-muted">
        This picture cannot be drawn: it is damaged, or of another kind than its name says. Download it to
        look into it.
      </p>
    );
  }
  return (
    <div className="relative min-h-0 flex-1">
      <div
        ref={box}
        tabIndex={0}
        role="group"
        aria-label={`${name}; plus and minus zoom`}
        className="flex h-[66vh] overflow-auto rounded-lg border border-line bg-paper"
        onKeyDown={(e) => {
          if (e.key === "+" || e.key === "=") by(1.3);
          if (e.key === "-") by(1 / 1.3);
          if (e.key === "0") setZoom(1);
        }}
      >
        <img
          src={address}
          alt={name}
          onError={() => setFailed(true)}
          onDoubleClick={() => setZoom(zoom > 1 ? 1 : 2.5)}
          className={`m-auto shrink-0 object-contain ${zoom === 1 ? "max-h-full max-w-full" : "max-w-none"}`}
          style={zoom === 1 ? undefined : { width: `${zoom * 100}%` }}
        />
      </div>
      <div className="absolute right-3 bottom-3 flex rounded-lg border border-line bg-sheet">
        <IconButton label="Smaller" disabled={zoom === 1} onClick={() => by(1 / 1.3)}>
          <Minus size={18} />
        </IconButton>
        <IconButton label="Whole picture" disabled={zoom === 1} onClick={() => setZoom(1)}>
          <Scan size={18} />
        </IconButton>
        <IconButton label="Larger" onClick={() => by(1.3)}>
          <Plus size={18} />
        </IconButton>
      </div>
    </div>
  );
}
