/** Days as they are written and read: `24 Dec 2026`. In the code they are `2026-12-24`. */

const written = new Intl.DateTimeFormat("en-GB", { day: "numeric", month: "short", year: "numeric" });
const months = ["jan", "feb", "mar", "apr", "may", "jun", "jul", "aug", "sep", "oct", "nov", "dec"];

/** The day of a time, as the clock on the wall has it; none of no time. */
export function dayOf(time: Date | string | undefined): string {
  if (time === undefined) return "";
  const date = new Date(time);
  const two = (n: number) => String(n).padStart(2, "0");
  return `${date.getFullYear()}-${two(date.getMonth() + 1)}-${two(date.getDate())}`;
}

/** Its midnight here. */
export function dateOf(day: string): Date {
  const [year = 1970, month = 1, date = 1] = day.split("-").map(Number);
  return new Date(year, month - 1, date);
}

/** The last second of a day, as the API writes times; nothing for no day. */
export function endOfDay(day: string): string {
  return day === "" ? "" : new Date(`${day}T23:59:59`).toISOString();
}

/** `24 Dec 2026`; nothing for no day. */
export function dayWords(day: string): string {
  return day === "" ? "" : written.format(dateOf(day));
}

function real(year: number, month: number, date: number): string | undefined {
  const day = new Date(year, month - 1, date);
  const same = day.getFullYear() === year && day.getMonth() === month - 1 && day.getDate() === date;
  return same && year >= 1970 && year <= 9999 ? dayOf(day) : undefined;
}

/** Reads `24 Dec 2026`, `24.12.2026` or `2026-12-24`. Which part of 3/4 is the day nobody can know. */
export function readDay(text: string): string | undefined {
  const words = text.trim().toLowerCase();
  const iso = /^(\d{4})-(\d{1,2})-(\d{1,2})$/.exec(words);
  if (iso) return real(Number(iso[1]), Number(iso[2]), Number(iso[3]));
  const dots = /^(\d{1,2})\.\s*(\d{1,2})\.\s*(\d{4})$/.exec(words);
  if (dots) return real(Number(dots[3]), Number(dots[2]), Number(dots[1]));
  const named = /^(\d{1,2})\.?\s+([a-z]{3,9})\.?,?\s+(\d{4})$/.exec(words);
  const month = named ? months.indexOf(named[2]!.slice(0, 3)) + 1 : 0;
  return named && month > 0 ? real(Number(named[3]), month, Number(named[1])) : undefined;
}
