import { useVirtualizer } from "@tanstack/react-virtual";
import Papa from "papaparse";
import { useMemo, useRef } from "react";

/** A table from comma-separated values: only the rows in sight are drawn, however many there are. */
export default function Table({ text, name }: { text: string; name: string }) {
  const { rows, delimiter } = useMemo(() => {
    const read = Papa.parse<string[]>(text.replace(/^\ufeff/, ""), { skipEmptyLines: true });
    return { rows: read.data, delimiter: read.meta.delimiter };
  }, [text]);
  const ref = useRef<HTMLDivElement>(null);
  const [head = [], ...body] = rows;
  const columns = Math.max(1, ...rows.slice(0, 500).map((r) => r.length));
  const widths = useMemo(
    () =>
      Array.from({ length: columns }, (_, i) => {
        const longest = Math.max(4, ...rows.slice(0, 200).map((r) => (r[i] ?? "").length));
        return `${Math.min(44, longest) + 3}ch`;
      }),
    [rows, columns],
  );
  const virtual = useVirtualizer({
    count: body.length,
    estimateSize: () => 32,
    getScrollElement: () => ref.current,
    overscan: 20,
  });
  const grid = { gridTemplateColumns: widths.join(" ") };
  const numeric = (cell: string) => /^-?[\d.,\s]+$/.test(cell) && cell.trim() !== "";
  return (
    <div
      ref={ref}
      role="table"
      tabIndex={0}
      aria-label={name}
      aria-rowcount={rows.length}
      aria-colcount={columns}
      className="h-[64vh] overflow-auto rounded-lg border border-line bg-sheet font-mono text-[14px]"
      data-delimiter={delimiter}
    >
      <div role="rowgroup" className="sticky top-0 z-10 w-max min-w-full border-b border-line bg-paper">
        <div role="row" className="grid" style={grid}>
          {Array.from({ length: columns }, (_, i) => (
            <div key={i} role="columnheader" className="truncate px-2 py-1.5 font-bold">
              {head[i] ?? ""}
            </div>
          ))}
        </div>
      </div>
      <div role="rowgroup" className="relative w-max min-w-full" style={{ height: virtual.getTotalSize() }}>
        {virtual.getVirtualItems().map((item) => (
          <div
            key={item.key}
            role="row"
            aria-rowindex={item.index + 2}
            className="absolute top-0 left-0 grid h-8 min-w-full items-center border-b border-line"
            style={{ ...grid, transform: `translateY(${item.start}px)` }}
          >
            {Array.from({ length: columns }, (_, i) => {
              const cell = body[item.index]![i] ?? "";
              return (
                <div
                  key={i}
                  role="cell"
                  title={cell}
                  className={`truncate px-2 ${numeric(cell) ? "text-right" : ""}`}
                >
                  {cell}
                </div>
              );
            })}
          </div>
        ))}
      </div>
    </div>
  );
}
