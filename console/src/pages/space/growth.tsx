import type { SpaceDay } from "../../lib/kept";
import { shortDay, size } from "../../lib/show";
import { useWidth } from "../../ui";

const dayMs = 86_400_000;
const [height, bottom] = [160, 22];

/** What was held, day by day: all of it, and of that the history. */
export function Growth({ days }: { days: SpaceDay[] }) {
  const [ref, width] = useWidth<HTMLElement>(640);
  if (days.length < 2) {
    return (
      <p className="text-[14.5px] text-muted">
        The first figures are written today; a line needs a few days.
      </p>
    );
  }
  const first = days[0]!.day;
  const last = days.at(-1)!.day;
  const past = (d: SpaceDay) => d.versions + d.trash;
  const most = Math.max(...days.map((d) => d.live + past(d)), 1);
  const x = (day: number) => ((day - first) / Math.max(1, last - first)) * width;
  const y = (bytes: number) => (height - bottom) * (1 - (bytes / most) * 0.94);
  const line = (of: (d: SpaceDay) => number) =>
    days.map((d, i) => `${i === 0 ? "M" : "L"}${x(d.day).toFixed(1)} ${y(of(d)).toFixed(1)}`).join("");
  const area = (of: (d: SpaceDay) => number) =>
    `${line(of)}L${x(last)} ${height - bottom}L${x(first)} ${height - bottom}Z`;
  const now = days.at(-1)!;
  const words = [0, 0.5, 1].map((part) => Math.round(first + part * (last - first)));
  return (
    <figure ref={ref}>
      <svg
        width={width}
        height={height}
        className="block max-w-full"
        role="img"
        aria-label={`From ${size(days[0]!.live + past(days[0]!))} to ${size(now.live + past(now))}, of it ${size(past(now))} history`}
      >
        <path d={area((d) => d.live + past(d))} fill="var(--bar-after)" />
        <path d={area(past)} fill="var(--gold-wash)" />
        <path d={line((d) => d.live + past(d))} fill="none" stroke="var(--ink)" strokeWidth="1.6" />
        <path d={line(past)} fill="none" stroke="var(--gold)" strokeWidth="1.8" />
        <line x1={0} x2={width} y1={height - bottom} y2={height - bottom} stroke="var(--line)" />
        {words.map((day, i) => (
          <text
            key={day + i}
            x={x(day)}
            y={height - 6}
            fontSize="12.5"
            fill="var(--muted)"
            fontFamily="var(--font-mono)"
            textAnchor={i === 0 ? "start" : i === 2 ? "end" : "middle"}
          >
            {i === 2 ? "today" : shortDay(new Date(day * dayMs))}
          </text>
        ))}
      </svg>
      <figcaption className="mt-1 flex flex-wrap gap-x-6 text-[14px]">
        <span>
          <i aria-hidden className="mr-2 inline-block h-0.5 w-4 bg-ink align-middle" />
          all, {size(now.live + past(now))}
        </span>
        <span>
          <i aria-hidden className="mr-2 inline-block h-0.5 w-4 bg-gold align-middle" />
          history, {size(past(now))}
        </span>
      </figcaption>
    </figure>
  );
}
