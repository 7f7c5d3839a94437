/** What a file is, by its name: for its icon and its preview. */

export type Look = "image" | "text" | "markdown" | "pdf" | "sound" | "film" | "table" | "archive" | "other";

const byEnding: Record<string, Look> = {
  png: "image",
  jpg: "image",
  jpeg: "image",
  gif: "image",
  webp: "image",
  txt: "text",
  md: "markdown",
  js: "text",
  ts: "text",
  tsx: "text",
  css: "text",
  html: "text",
  xml: "text",
  c: "text",
  h: "text",
  tex: "text",
  srt: "text",
  bmp: "image",
  tif: "image",
  tiff: "image",
  tsv: "table",
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

/** Whether browsers can show a picture by themselves. */
export function shownByBrowsers(name: string): boolean {
  return /\.(png|jpe?g|gif|webp)$/i.test(name);
}

/** Whether a file is a text that can be edited here. */
export function editable(name: string, bytes: number): boolean {
  return ["text", "markdown", "table"].includes(lookOf(name)) && bytes <= 2 * 1024 * 1024;
}
