import { useState } from "react";
import type { Activity } from "../../lib/api";
import { moment, shortDay } from "../../lib/show";
import { useWidth } from "../../ui";

/** A moment worth coming back to. */
export interface StripMark {
  moment: string;
  at: string;
  label: string;
}

interface Props {
  activity?: Activity;
  /** Snapshots, and last moments before something went wrong. */
  marks?: StripMark[];
  /** Times at which a device changed very much. */
  alarms?: string[];
  at?: string;
  /** A moment's token or a time; nothing for now. */
  onMove: (at: string | undefined) => void;
}

const dayMs = 86_400_000;
const height = 62;
/** So near to a mark, in pixels, the handle falls onto it. */
const near = 6;

/**
 * The time strip: the folder's activity by day, oldest left, now at the right end. Its handle
 * is dragged, or moved with the arrow keys from change to change.
 */
export function Strip({ activity, marks = [], alarms = [], at, onMove }: Props) {
  const [ref, width] = useWidth<HTMLDivElement>(1000);
  const [dragged, setDragged] = useState<number>();

  const now = Date.now();
  const first = activity?.days[0] ? activity.days[0].day * dayMs : now;
  // At least a month, so that a new folder's strip has a past to its left.
  const start = Math.min(first - dayMs, now - 30 * dayMs);
  const left = 14;
  const right = Math.max(width - 60, left + 40);
  const x = (time: number) => left + ((time - start) / (now - start)) * (right - left);
  const timeAt = (px: number) => start + ((px - left) / (right - left)) * (now - start);
  const turns = (activity?.turns ?? []).toReversed();
  const oldest = turns[0] ? new Date(turns[0].at).getTime() : now;
  // What is of a time before the folder was there is none of its moments.
  const there = marks.filter((m) => new Date(m.at).getTime() >= oldest);
  const stops = [...turns, ...there].toSorted((a, b) => new Date(a.at).getTime() - new Date(b.at).getTime());
  const shown = shownTime(at, stops, now);
  const markAt = (px: number) => there.find((m) => Math.abs(x(new Date(m.at).getTime()) - px) <= near);
  const alarmed = new Set(alarms.map((a) => Math.floor(new Date(a).getTime() / dayMs)));
  const handle = dragged ?? (at === undefined ? right : Math.max(left, Math.min(right, x(shown))));
  const most = Math.max(1, ...(activity?.days.map((d) => d.changes) ?? []));
  const barWidth = Math.max(2, Math.min(9, ((right - left) / ((now - start) / dayMs)) * 0.66));

  const finish = (px: number) => {
    setDragged(undefined);
    const mark = markAt(px);
    if (px >= right - 6) onMove(undefined);
    else if (mark) onMove(mark.moment);
    else {
      // Before its first change the folder was not there.
      const time = Math.round(timeAt(Math.max(left, px)));
      const began = turns[0];
      onMove(began && time < oldest ? began.moment : new Date(time).toISOString());
    }
  };
  const step = (by: number) => {
    if (stops.length === 0) return;
    // After the last change everything is as it is now.
    const end = stops.at(-1) === turns.at(-1) ? stops.length - 1 : stops.length;
    const here = at === undefined ? end : stops.findLastIndex((t) => new Date(t.at).getTime() <= shown);
    const next = here + by;
    if (next >= end) onMove(undefined);
    else onMove(stops[Math.max(0, next)]!.moment);
  };
  const position = (e: { clientX: number }) => {
    const box = ref.current?.getBoundingClientRect();
    return Math.max(left, Math.min(right, e.clientX - (box?.left ?? 0)));
  };

  return (
    <div
      ref={ref}
      className="relative touch-none border-y border-line bg-sheet select-none"
      onPointerDown={(e) => {
        if (e.button !== 0) return;
        e.currentTarget.setPointerCapture(e.pointerId);
        setDragged(position(e));
      }}
      onPointerMove={(e) => dragged !== undefined && setDragged(position(e))}
      onPointerUp={(e) => dragged !== undefined && finish(position(e))}
      onPointerCancel={() => setDragged(undefined)}
    >
      <svg data-testid="strip" width="100%" height={height} aria-hidden className="block">
        <line x1={left} x2={right} y1={43.5} y2={43.5} stroke="var(--line)" />
        {activity?.days.map(({ day, changes }) => {
          const h = 3 + 34 * Math.sqrt(changes / most);
          const px = x(day * dayMs + dayMs / 2);
          return (
            <rect
              key={day}
              x={Math.min(px, right - 2) - barWidth / 2}
              y={43 - h}
              width={barWidth}
              height={h}
              rx={1.5}
              fill={alarmed.has(day) ? "var(--brick)" : px > handle ? "var(--bar-after)" : "var(--bar)"}
            />
          );
        })}
        {there.map((m) => {
          const px = x(new Date(m.at).getTime());
          return (
            <path key={m.moment} data-mark d={`M${px - 4.5} 49.5h9l-4.5 -7.5z`} fill="var(--teal)">
              <title>{m.label}</title>
            </path>
          );
        })}
        {ticks(start, now).map((t) => (
          <g key={t}>
            <line x1={x(t)} x2={x(t)} y1={44} y2={48} stroke="var(--muted)" />
            <text
              x={x(t)}
              y={58}
              fontSize="12"
              fill="var(--muted)"
              fontFamily="var(--font-mono)"
              textAnchor="middle"
            >
              {shortDay(new Date(t))}
            </text>
          </g>
        ))}
        <text
          x={width - 12}
          y={58}
          fontSize="12"
          fill="var(--muted)"
          fontFamily="var(--font-mono)"
          textAnchor="end"
        >
          now
        </text>
        <line x1={handle} x2={handle} y1={4} y2={56} stroke="var(--gold)" strokeWidth={2.5} />
      </svg>
      <button
        type="button"
        role="slider"
        aria-label="Moment shown"
        aria-valuemin={0}
        aria-valuemax={100}
        aria-valuenow={Math.round(((handle - left) / (right - left)) * 100)}
        aria-valuetext={at === undefined ? "now" : moment(new Date(shown))}
        title="Drag to see the folder as it was; arrow keys go from change to change"
        className="absolute top-[34px] size-[18px] -translate-x-1/2 cursor-grab rounded-full border-2 border-sheet bg-gold"
        style={{ left: handle }}
        onKeyDown={(e) => {
          const acts: Record<string, () => void> = {
            ArrowLeft: () => step(-1),
            ArrowDown: () => step(-1),
            ArrowRight: () => step(1),
            ArrowUp: () => step(1),
            PageUp: () => onMove(new Date(shown - dayMs).toISOString()),
            PageDown: () =>
              shown + dayMs >= now ? onMove(undefined) : onMove(new Date(shown + dayMs).toISOString()),
            Home: () => turns[0] && onMove(turns[0].moment),
            End: () => onMove(undefined),
          };
          const act = acts[e.key];
          if (act) {
            e.preventDefault();
            act();
          }
        }}
      />
      {dragged !== undefined && dragged < right - 6 && (
        <div
          className="pointer-events-none absolute top-1 -translate-x-1/2 rounded-md bg-ink px-2 py-0.5 text-[13px] whitespace-nowrap text-paper"
          style={{ left: Math.max(90, Math.min(width - 90, dragged)) }}
        >
          {markAt(dragged)?.label ?? moment(new Date(timeAt(dragged)))}
        </div>
      )}
    </div>
  );
}

function shownTime(at: string | undefined, stops: { moment: string; at: string }[], now: number): number {
  if (at === undefined) return now;
  const turn = stops.find((t) => t.moment === at);
  const time = new Date(turn?.at ?? at).getTime();
  return Number.isNaN(time) ? now : time;
}

/** Between three and seven days to name, evenly apart, none too near the ends. */
function ticks(start: number, now: number): number[] {
  const days = (now - start) / dayMs;
  const each = [7, 14, 30, 61, 122, 365].find((d) => days / d <= 6) ?? 730;
  const found: number[] = [];
  const midnight = new Date(now);
  midnight.setHours(0, 0, 0, 0);
  for (let t = midnight.getTime() - each * dayMs; t > start + 0.03 * (now - start); t -= each * dayMs)
    found.push(t);
  return found;
}
