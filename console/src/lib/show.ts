/** Sizes, times and counts as people read them. */

const units = ["KiB", "MiB", "GiB", "TiB", "PiB"];

/** Binary units, three digits: `4.21 GiB`. */
export function size(bytes: number): string {
  if (bytes < 1024) return `${bytes} B`;
  let value = bytes / 1024;
  let unit = 0;
  while (value >= 999.5 && unit + 1 < units.length) {
    value /= 1024;
    unit += 1;
  }
  const digits = value < 9.995 ? 2 : value < 99.95 ? 1 : 0;
  return `${value.toFixed(digits)} ${units[unit]}`;
}

const clock = new Intl.DateTimeFormat("en-GB", { hour: "2-digit", minute: "2-digit" });
const day = new Intl.DateTimeFormat("en-GB", { day: "numeric", month: "short" });
const dayAndYear = new Intl.DateTimeFormat("en-GB", { day: "numeric", month: "short", year: "numeric" });
const full = new Intl.DateTimeFormat("en-GB", { dateStyle: "full", timeStyle: "long" });
const long = new Intl.DateTimeFormat("en-GB", { weekday: "long", day: "numeric", month: "long" });

function midnight(at: Date): number {
  return new Date(at.getFullYear(), at.getMonth(), at.getDate()).getTime();
}

/** Local, in words near now: `4 minutes ago`, `today, 09:12`, `yesterday`, `12 Nov`. */
export function when(text: string, now = new Date()): string {
  const at = new Date(text);
  const seconds = (now.getTime() - at.getTime()) / 1000;
  const days = Math.round((midnight(now) - midnight(at)) / 86_400_000);
  if (seconds >= 0 && seconds < 60) return "just now";
  if (seconds >= 0 && seconds < 3600) return count(Math.floor(seconds / 60), "minute") + " ago";
  if (days === 0) return `today, ${clock.format(at)}`;
  if (days === 1) return `yesterday, ${clock.format(at)}`;
  return at.getFullYear() === now.getFullYear() ? day.format(at) : dayAndYear.format(at);
}

/** Exact, for hovering. */
export function exactly(text: string): string {
  return full.format(new Date(text));
}

/** `Monday 2 November, 16:20`. */
export function moment(at: Date): string {
  return `${long.format(at).replace(",", "")}, ${clock.format(at)}`;
}

/** `24 Aug`. */
export function shortDay(at: Date): string {
  return day.format(at);
}

/** `1 file`, `2 files`. */
export function count(n: number, word: string): string {
  return `${n.toLocaleString("en")} ${word}${n === 1 ? "" : "s"}`;
}

const small = ["No", "One", "Two", "Three", "Four", "Five", "Six", "Seven", "Eight", "Nine", "Ten"];

/** At the beginning of a sentence: `Four things`. */
export function countInWords(n: number, word: string): string {
  return `${small[n] ?? n.toLocaleString("en")} ${word}${n === 1 ? "" : "s"}`;
}

/** How long, in words: `about 4 minutes`. */
export function span(seconds: number): string {
  if (seconds < 10) return "a few seconds";
  if (seconds < 90) return `about ${Math.round(seconds / 10) * 10} seconds`;
  if (seconds < 90 * 60) return `about ${count(Math.round(seconds / 60), "minute")}`;
  return `about ${count(Math.round(seconds / 3600), "hour")}`;
}

/** A name in which nothing hides: characters that turn or hide others are written out. */
export function plain(name: string): string {
  return name.replace(
    /[\u202a-\u202e\u2066-\u2069]|[\u{e0000}-\u{e007f}]/gu,
    (c) => `\u27e8U+${c.codePointAt(0)!.toString(16).toUpperCase().padStart(4, "0")}\u27e9`,
  );
}

/** How many files a disk can still hold, as the end of a sentence, where that may end before its bytes do. */
export function roomForFiles(disk: {
  free: number;
  free_files?: number | null;
  total_files?: number | null;
}): string {
  const { free, free_files: files, total_files: all } = disk;
  if (files == null || !all) return "";
  // A tenth of all, or so few that files of 16 KiB would leave three quarters of the bytes.
  return files < all / 10 || files * 16_384 < free / 4 ? `, with room for ${count(files, "more file")}` : "";
}
