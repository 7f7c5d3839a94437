/** Files on their way to the service: one queue for all pages, kept while one walks about. */

import { useSyncExternalStore } from "react";
import type { DetailedError } from "tus-js-client";
import type { Chosen } from "./dropped";
import { api, Refusal, refusalIn, sendFile, uploadsAddress, type Upload } from "./api";
import { hashOf } from "./hash";

/** Files sent at a time. */
const atOnce = 4;
/** From this size on a file goes in a way that can be taken up again. */
const large = 8 * 1024 * 1024;
/** The rate is measured over this long. */
const rateOver = 5_000;

/** "same": that very file was there already, nothing had to be sent. */
export type Fate = "waiting" | "under way" | "asks" | "done" | "same" | "skipped" | "failed" | "stopped";

export interface Sending {
  id: number;
  batch: Batch;
  file: File;
  name: string;
  way: string[];
  sent: number;
  state: Fate;
  why?: string;
  tries: number;
  abort?: AbortController;
  /** The hash of the file, once it was needed. */
  blake3?: string;
}

/** What was added at once: one answer for all clashes of names. */
export interface Batch {
  parent: number;
  clash?: "replace" | "keep both" | "skip";
}

export interface Snapshot {
  all: Sending[];
  files: number;
  done: number;
  same: number;
  failed: number;
  asking: Sending[];
  bytes: number;
  sent: number;
  busy: boolean;
  paused: boolean;
  offline: boolean;
  /** Bytes a second. */
  rate: number;
  secondsLeft?: number;
  /** Begun earlier, here or elsewhere, and not finished. */
  unfinished: Upload[];
}

class Uploads {
  private all: Sending[] = [];
  private folders = new Map<string, Promise<Place>>();
  private unfinished: Upload[] = [];
  private paused = false;
  private offline = false;
  private next = 1;
  private running = 0;
  private moved: { at: number; bytes: number }[] = [];
  private watchers = new Set<() => void>();
  private shown: Snapshot = this.look();
  private telling?: ReturnType<typeof setTimeout>;
  private working?: ReturnType<typeof setTimeout>;

  constructor() {
    window.addEventListener("beforeunload", (e) => {
      if (this.shown.busy) e.preventDefault();
    });
    window.addEventListener("online", () => this.goOn());
  }

  subscribe = (watch: () => void) => {
    this.watchers.add(watch);
    return () => {
      this.watchers.delete(watch);
    };
  };

  snapshot = () => this.shown;

  /** Learns what was begun before this page was opened. */
  async recall() {
    const found = await api.uploads().catch(() => undefined);
    if (found) {
      this.unfinished = found.uploads;
      this.tell();
    }
  }

  add(parent: number, chosen: Chosen[]) {
    const batch: Batch = { parent };
    for (const { file, way } of chosen) {
      if (file) {
        const name = file.name.normalize("NFC");
        this.all.push({ id: this.next++, batch, file, name, way, sent: 0, state: "waiting", tries: 0 });
      } else {
        this.folder(parent, way).catch(() => {});
      }
    }
    this.work();
  }

  /** Answers a clash of names, for all that came with it. */
  decide(batch: Batch, clash: NonNullable<Batch["clash"]>) {
    batch.clash = clash;
    for (const s of this.all) {
      if (s.batch === batch && s.state === "asks") s.state = clash === "skip" ? "skipped" : "waiting";
    }
    this.work();
  }

  pause() {
    this.paused = true;
    for (const s of this.all) {
      if (s.state === "under way") s.abort?.abort();
    }
    this.tell();
  }

  goOn() {
    this.paused = false;
    this.offline = false;
    this.work();
  }

  retry(ids: number[]) {
    const wanted = new Set(ids);
    for (const s of this.all) {
      if (wanted.has(s.id) && (s.state === "failed" || s.state === "stopped")) {
        Object.assign(s, { state: "waiting", why: undefined, sent: 0, tries: 0 });
      }
    }
    this.folders.clear();
    this.work();
  }

  stop(id: number) {
    const s = this.all.find((x) => x.id === id);
    if (!s) return;
    const running = s.state === "under way";
    s.state = "stopped";
    if (running) s.abort?.abort();
    this.tell();
  }

  stopAll() {
    for (const s of this.all) {
      if (s.state === "waiting" || s.state === "asks" || s.state === "under way") this.stop(s.id);
    }
  }

  clear() {
    this.all = this.all.filter((s) => ["waiting", "under way", "asks"].includes(s.state));
    this.folders.clear();
    this.tell();
  }

  async forget(upload: Upload) {
    await fetch(`${uploadsAddress}/${upload.id}`, {
      method: "DELETE",
      headers: { "Tus-Resumable": "1.0.0" },
    }).catch(() => {});
    await this.recall();
  }

  private work() {
    // One walk for many calls, however long the queue is.
    this.working ??= setTimeout(() => {
      this.working = undefined;
      for (const s of this.all) {
        if (this.running >= atOnce || this.paused || this.offline) break;
        if (s.state === "waiting") void this.send(s);
      }
    });
    this.tell();
  }

  private async send(s: Sending) {
    this.running += 1;
    s.state = "under way";
    s.abort = new AbortController();
    try {
      const place = await this.folder(s.batch.parent, s.way);
      const clash = await this.clash(s, place);
      if (clash === "same") Object.assign(s, { state: "same", sent: s.file.size });
      else if (clash === "asks") s.state = "asks";
      else if (clash === "skip") s.state = "skipped";
      else {
        const name = clash === "keep both" ? unlike(place.names, s.name) : s.name;
        place.names.set(name, { size: s.file.size, modified: s.file.lastModified, blake3: s.blake3 });
        s.name = name;
        const onBytes = (sent: number) => {
          this.moved.push({ at: Date.now(), bytes: sent - s.sent });
          s.sent = sent;
          this.tell();
        };
        if (s.file.size >= large) await this.sendInParts(s, place.id, name, clash === "replace", onBytes);
        else await sendFile(place.id, name, s.file, clash === "replace", s.abort.signal, onBytes);
        s.sent = s.file.size;
        s.state = "done";
      }
    } catch (e) {
      this.notSent(s, e);
    }
    this.running -= 1;
    this.work();
  }

  private notSent(s: Sending, e: unknown) {
    const refusal = Refusal.of(e);
    // Stopped by hand: its state is set. Paused: it waits.
    if (refusal.code === "stopped" || s.abort?.signal.aborted) {
      if (s.state === "under way") s.state = "waiting";
      if (s.file.size < large) s.sent = 0;
      return;
    }
    if (refusal.status === 0 || refusal.status === 502 || refusal.status === 503) {
      // The line broke: wait for it, then go on. Nobody knows whether it arrived: the folder is looked at again.
      s.state = "waiting";
      this.folders.clear();
      if (s.file.size < large) s.sent = 0;
      if (!this.offline) {
        this.offline = true;
        setTimeout(() => {
          this.offline = false;
          this.work();
        }, 3_000);
      }
      return;
    }
    this.folders.clear();
    if (refusal.code === "changed_meanwhile" && s.batch.clash === undefined && s.tries < 3) {
      // Somebody put a file of that name meanwhile: ask.
      s.tries += 1;
      s.state = "asks";
      return;
    }
    s.state = "failed";
    s.why = `${refusal.message} ${refusal.remedy}`.trim();
  }

  private async clash(s: Sending, place: Place): Promise<Batch["clash"] | "asks" | "same" | undefined> {
    const there = place.names.get(s.name);
    if (!there) return undefined;
    // What an earlier try brought there is not sent again, if it is the very same bytes.
    const alike = there.size === s.file.size && there.modified === s.file.lastModified;
    if (alike && there.blake3 && there.blake3 === (await this.hashed(s))) return "same";
    // A file whose upload was begun before is the same file.
    if (await this.begun(s, place.id, s.name)) return "replace";
    return s.batch.clash ?? "asks";
  }

  private async hashed(s: Sending): Promise<string> {
    try {
      return (s.blake3 ??= await hashOf(s.file, s.abort?.signal));
    } catch (e) {
      if (s.abort?.signal.aborted) throw new Refusal("Stopped.", "stopped", "", 0);
      throw e;
    }
  }

  /** An upload of these very bytes that was broken off: name, size and time can be the same for others. */
  private async begun(s: Sending, parent: number, name: string): Promise<Upload | undefined> {
    const alike = this.unfinished.filter(
      (u) => u.parent === parent && u.name === name && u.size === s.file.size && u.blake3 !== undefined,
    );
    if (alike.length === 0) return undefined;
    const blake3 = await this.hashed(s);
    return alike.find((u) => u.blake3 === blake3);
  }

  private async sendInParts(
    s: Sending,
    parent: number,
    name: string,
    replace: boolean,
    onBytes: (sent: number) => void,
  ): Promise<void> {
    const blake3 = await this.hashed(s);
    const begun = await this.begun(s, parent, name);
    // It comes with the first large file. Where the line is down it can be asked for again.
    const { Upload: Tus } = await import("tus-js-client").catch(() => {
      throw Refusal.line();
    });
    return new Promise((resolve, reject) => {
      const tus = new Tus(s.file, {
        endpoint: uploadsAddress,
        uploadUrl: begun ? `${uploadsAddress}/${begun.id}` : null,
        metadata: {
          parent: String(parent),
          filename: name,
          modified: new Date(s.file.lastModified).toISOString(),
          blake3,
          ...(replace ? {} : { ifnonematch: "*" }),
        },
        storeFingerprintForResuming: false,
        retryDelays: [500, 1000, 2000, 5000],
        onShouldRetry: (e) => {
          const status = e.originalResponse?.getStatus() ?? 0;
          return status === 0 || status === 409 || status === 423 || status >= 500;
        },
        onProgress: (sent) => onBytes(sent),
        onUploadUrlAvailable: () => void this.recall(),
        onSuccess: () => {
          void this.recall();
          resolve();
        },
        onError: (e) => {
          const answer = (e as DetailedError).originalResponse;
          reject(answer ? refusalIn(answer.getBody(), answer.getStatus()) : Refusal.line());
        },
      });
      s.abort?.signal.addEventListener("abort", () => {
        // What arrived stays with the service: going on begins there. Stopped by hand, it goes.
        void tus.abort(s.state === "stopped").then(
          () => this.recall(),
          () => {},
        );
        reject(new Refusal("Stopped.", "stopped", "", 0));
      });
      tus.start();
    });
  }

  private folder(parent: number, way: string[]): Promise<Place> {
    const key = [parent, ...way].join("/");
    const known = this.folders.get(key);
    if (known) return known;
    const found = (async (): Promise<Place> => {
      if (way.length === 0) return { id: parent, names: await namesIn(parent) };
      const above = await this.folder(parent, way.slice(0, -1));
      const name = way[way.length - 1]!.normalize("NFC");
      try {
        return { id: (await api.makeFolder(above.id, name)).id, names: new Map() };
      } catch (e) {
        if (!(e instanceof Refusal) || e.code !== "name_taken") throw e;
        const facts = await api.facts(above.id);
        const there = await api.place(`${facts.path.replace(/\/$/, "")}/${name}`);
        if (there.node.kind !== "folder") throw e;
        return { id: there.node.id, names: await namesIn(there.node.id) };
      }
    })();
    this.folders.set(key, found);
    found.catch(() => this.folders.delete(key));
    return found;
  }

  private look(): Snapshot {
    const now = Date.now();
    this.moved = this.moved.filter((m) => now - m.at < rateOver);
    const counted = this.all.filter((s) => s.state !== "stopped" && s.state !== "skipped");
    const bytes = counted.reduce((n, s) => n + s.file.size, 0);
    const sent = counted.reduce((n, s) => n + s.sent, 0);
    const busy = this.all.some((s) => s.state === "waiting" || s.state === "under way");
    const since = this.moved[0]?.at ?? now;
    const rate = this.moved.reduce((n, m) => n + m.bytes, 0) / Math.max(1, (now - since) / 1000);
    const unmatched = this.unfinished.filter(
      (u) => !this.all.some((s) => s.name === u.name && s.file.size === u.size && s.state !== "failed"),
    );
    return {
      all: this.all,
      files: counted.length,
      done: this.all.filter((s) => s.state === "done").length,
      same: this.all.filter((s) => s.state === "same").length,
      failed: this.all.filter((s) => s.state === "failed").length,
      asking: this.all.filter((s) => s.state === "asks"),
      bytes,
      sent,
      busy,
      paused: this.paused,
      offline: this.offline,
      rate,
      secondsLeft: rate > 0 && busy ? (bytes - sent) / rate : undefined,
      unfinished: unmatched,
    };
  }

  private tell() {
    this.telling ??= setTimeout(() => {
      this.telling = undefined;
      this.shown = this.look();
      this.watchers.forEach((w) => w());
    }, 100);
  }
}

/** What stands at a name: a folder has no size. */
interface There {
  size?: number;
  modified: number;
  blake3?: string;
}

interface Place {
  id: number;
  names: Map<string, There>;
}

async function namesIn(folder: number): Promise<Map<string, There>> {
  const names: Place["names"] = new Map();
  let cursor: string | undefined;
  do {
    const page = await api.entries(folder, { sort: "name", order: "up" }, undefined, cursor);
    for (const e of page.entries) {
      const size = e.kind === "file" ? e.size : undefined;
      names.set(e.name, { size, modified: new Date(e.modified).getTime(), blake3: e.blake3 });
    }
    cursor = page.next;
  } while (cursor);
  return names;
}

/** A name that is not among the others, numbered before its ending. */
export function unlike(others: { has(name: string): boolean }, name: string): string {
  const dot = name.lastIndexOf(".");
  const [stem, ending] = dot > 0 ? [name.slice(0, dot), name.slice(dot)] : [name, ""];
  for (let n = 2; ; n += 1) {
    const tried = `${stem} (${n})${ending}`;
    if (!others.has(tried)) return tried;
  }
}

export const uploads = new Uploads();

export function useUploads(): Snapshot {
  return useSyncExternalStore(uploads.subscribe, uploads.snapshot);
}
