import { count } from "../lib/show";

/** `40 seconds`, `5 minutes`, `3 hours`. */
export function stretch(seconds: number): string {
  if (seconds <= 90) return count(seconds, "second");
  if (seconds <= 5400) return count(Math.ceil(seconds / 60), "minute");
  return count(Math.ceil(seconds / 3600), "hour");
}

/** A size as people write it, in bytes: `2 GiB`, `500MiB`, `800`; none if it is no size. */
export function bytesOf(text: string): number | undefined {
  const found = /^(\d+(?:\.\d+)?)\s*(B|[KMGT]i?B?)?$/i.exec(text.trim());
  if (!found) return undefined;
  const unit = (found[2] ?? "B").charAt(0).toUpperCase();
  const power = Math.max(0, ["B", "K", "M", "G", "T"].indexOf(unit));
  return Math.round(Number(found[1]) * 1024 ** power);
}
