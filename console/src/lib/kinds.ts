/** What a file is, by its name: for its icon and its preview. */

export type Look = "image" | "text" | "pdf" | "sound" | "film" | "table" | "archive" | "other";

const byEnding: Record<string, Look> = {
  png: "image",
  jpg: "image",
  jpeg: "image",
  gif: "image",
  webp: "image",
  txt: "text",
  md: "text",
  log: "text",
  json: "text",
  toml: "text",
  yaml: "text",
  yml: "text",
  ini: "text",
  rs: "text",
  py: "text",
  sh: "text",
  sql: "text",
  csv: "table",
  pdf: "pdf",
  wav: "sound",
  mp3: "sound",
  ogg: "sound",
  flac: "sound",
  mp4: "film",
  webm: "film",
  zip: "archive",
  tar: "archive",
  gz: "archive",
};

export function lookOf(name: string): Look {
  const dot = name.lastIndexOf(".");
  return (dot >= 0 && byEnding[name.slice(dot + 1).toLowerCase()]) || "other";
}

/** Whether a picture is small enough to stand in a list without a thumbnail of its own. */
export function drawable(name: string, bytes: number): boolean {
  return lookOf(name) === "image" && bytes <= 4 * 1024 * 1024;
}
