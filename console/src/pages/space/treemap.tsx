import { hierarchy, treemap, treemapSquarify } from "d3-hierarchy";
import { size } from "../../lib/show";
import { useWidth } from "../../ui";

/** A rectangle: its area is what it holds. */
export interface Piece {
  key: string;
  name: string;
  bytes: number;
  /** Of these, history. */
  past: number;
  open?: () => void;
}

const height = 300;
/** More would be specks. */
const most = 60;
/** The least that a finger can touch, each way. */
const touchable = 24;

type Root = { children?: Piece[] } | Piece;

function drawn(pieces: Piece[], width: number) {
  const root = hierarchy<Root>({ children: pieces }).sum((d) => ("bytes" in d ? d.bytes : 0));
  return treemap<Root>().tile(treemapSquarify.ratio(1.4)).size([width, height]).paddingInner(2).round(true)(
    root,
  );
}

/** Lays the largest out; what would be too small to touch is one part together, which cannot be pressed. */
function lay(sorted: Piece[], width: number) {
  let alone = Math.min(sorted.length, most);
  for (;;) {
    const rest = sorted.slice(alone);
    const together: Piece = {
      key: "rest",
      name: `${rest.length.toLocaleString("en")} smaller ones`,
      bytes: rest.reduce((n, p) => n + p.bytes, 0),
      past: rest.reduce((n, p) => n + p.past, 0),
    };
    const laid = drawn(rest.length === 0 ? sorted : [...sorted.slice(0, alone), together], width);
    const small = laid
      .leaves()
      .some(
        (l) =>
          "open" in l.data &&
          l.data.open !== undefined &&
          (l.x1 - l.x0 < touchable || l.y1 - l.y0 < touchable),
      );
    if (!small || alone <= 1) return laid;
    alone -= 1;
  }
}

/** Everything in one picture: each thing as large as what it holds, its history shaded. */
export function Treemap({ pieces, label }: { pieces: Piece[]; label: string }) {
  const [ref, width] = useWidth<HTMLDivElement>(700);
  const sorted = pieces.filter((p) => p.bytes > 0).toSorted((a, b) => b.bytes - a.bytes);
  const laid = lay(sorted, width);
  return (
    <div ref={ref} role="group" aria-label={label} className="relative" style={{ height }}>
      {laid.leaves().map((leaf) => {
        if (!("bytes" in leaf.data)) return null;
        const piece = leaf.data;
        const [w, h] = [leaf.x1 - leaf.x0, leaf.y1 - leaf.y0];
        const told = `${piece.name}: ${size(piece.bytes)}, of it ${size(piece.past)} history`;
        const share = piece.bytes === 0 ? 0 : piece.past / piece.bytes;
        const box =
          "absolute flex flex-col overflow-hidden rounded-[3px] border border-line bg-sheet text-left";
        const place = { left: leaf.x0, top: leaf.y0, width: w, height: h };
        const named = w > 54 && h > 24;
        const sized = named && h > 44;
        const inside = (
          <>
            <span
              className="absolute inset-x-0 bottom-0 bg-gold-wash"
              style={{ height: `${share * 100}%` }}
              aria-hidden
            />
            {named && (
              <span className="relative block truncate px-1.5 pt-0.5 text-[13.5px]">{piece.name}</span>
            )}
            {sized && (
              <span className="relative block truncate px-1.5 font-mono text-[12.5px] text-muted">
                {size(piece.bytes)}
              </span>
            )}
            <span className="sr-only">
              {!named && piece.name} {!sized && size(piece.bytes)}, of it {size(piece.past)} history
            </span>
          </>
        );
        return piece.open ? (
          <button
            key={piece.key}
            type="button"
            title={told}
            className={`${box} hover:border-muted`}
            style={place}
            onClick={piece.open}
          >
            {inside}
          </button>
        ) : (
          <div key={piece.key} title={told} className={box} style={place}>
            {inside}
          </div>
        );
      })}
    </div>
  );
}
