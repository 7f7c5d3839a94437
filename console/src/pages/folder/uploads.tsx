import { ChevronDown, ChevronUp, RotateCcw, X } from "lucide-react";
import { useCallback, useEffect, useRef, useState } from "react";
import { api, Refusal, sendFile } from "../../lib/api";
import { count, size } from "../../lib/show";
import { IconButton } from "../../ui";

/** Files sent at a time. */
const atOnce = 3;

/** A file to send, and the folders on its way below the target. */
export interface Chosen {
  file: File;
  way: string[];
}

interface Sending {
  id: number;
  parent: number;
  file: File;
  way: string[];
  sent: number;
  state: "waiting" | "under way" | "done" | "failed" | "stopped";
  why?: string;
  stop: AbortController;
}

export interface Uploads {
  all: Sending[];
  add: (parent: number, files: Chosen[]) => void;
  retry: (id: number) => void;
  stop: (id: number) => void;
  clear: () => void;
}

let next = 1;

/** Sends files, a few at a time. Each is told to be done when it is safe on the service's disk. */
export function useUploads(onDone: () => Promise<void>): Uploads {
  const [all, setAll] = useState<Sending[]>([]);
  const folders = useRef(new Map<string, Promise<number>>());
  const update = useCallback((id: number, change: Partial<Sending>) => {
    setAll((list) => list.map((s) => (s.id === id ? { ...s, ...change } : s)));
  }, []);

  const folder = useCallback((parent: number, way: string[]): Promise<number> => {
    let at = Promise.resolve(parent);
    let key = String(parent);
    for (const name of way) {
      key += `/${name}`;
      const above = at;
      const known = folders.current.get(key);
      at = known ?? above.then((p) => ensure(p, name));
      if (!known) folders.current.set(key, at);
    }
    return at;
  }, []);

  const running = all.filter((s) => s.state === "under way").length;
  const waiting = all.find((s) => s.state === "waiting");
  useEffect(() => {
    if (!waiting || running >= atOnce) return;
    const { id, file, parent, way, stop } = waiting;
    update(id, { state: "under way", sent: 0, why: undefined });
    folder(parent, way)
      .then((to) =>
        sendFile(to, file.name.normalize("NFC"), file, stop.signal, (sent) => update(id, { sent })),
      )
      .then(
        () => update(id, { state: "done", sent: file.size }),
        (e: unknown) => {
          folders.current.clear();
          const refusal = e instanceof Refusal ? e : undefined;
          update(id, {
            state: refusal?.code === "stopped" ? "stopped" : "failed",
            why: refusal ? `${refusal.message} ${refusal.remedy}`.trim() : String(e),
          });
        },
      )
      .then(() => onDone())
      .catch(() => {});
  }, [waiting, running, update, folder, onDone]);

  const busy = waiting !== undefined || running > 0;
  useEffect(() => {
    if (!busy) return;
    const warn = (e: BeforeUnloadEvent) => e.preventDefault();
    window.addEventListener("beforeunload", warn);
    return () => window.removeEventListener("beforeunload", warn);
  }, [busy]);

  return {
    all,
    add: (parent, files) => {
      const fresh = files.map(({ file, way }): Sending => {
        return { id: next++, parent, file, way, sent: 0, state: "waiting", stop: new AbortController() };
      });
      setAll((list) => [...list, ...fresh]);
    },
    retry: (id) => update(id, { state: "waiting", stop: new AbortController() }),
    stop: (id) => {
      const sending = all.find((s) => s.id === id);
      sending?.stop.abort();
      if (sending?.state === "waiting") update(id, { state: "stopped" });
    },
    clear: () => setAll((list) => list.filter((s) => s.state === "waiting" || s.state === "under way")),
  };
}

async function ensure(parent: number, name: string): Promise<number> {
  const wanted = name.normalize("NFC");
  try {
    return (await api.makeFolder(parent, wanted)).id;
  } catch (e) {
    if (!(e instanceof Refusal) || e.code !== "name_taken") throw e;
    const facts = await api.facts(parent);
    const there = await api.place(`${facts.path.replace(/\/$/, "")}/${wanted}`);
    if (there.node.kind !== "folder") throw e;
    return there.node.id;
  }
}

/** What was dropped, with whole folders opened up. */
export async function dropped(data: DataTransfer): Promise<Chosen[]> {
  const entries = [...data.items].map((i) => i.webkitGetAsEntry()).filter((e) => e !== null);
  const found: Chosen[] = [];
  const walk = async (entry: FileSystemEntry, way: string[]): Promise<void> => {
    if (entry.isFile) {
      const file = await new Promise<File>((ok, no) => (entry as FileSystemFileEntry).file(ok, no));
      found.push({ file, way });
      return;
    }
    const reader = (entry as FileSystemDirectoryEntry).createReader();
    for (;;) {
      const part = await new Promise<FileSystemEntry[]>((ok, no) => reader.readEntries(ok, no));
      if (part.length === 0) return;
      for (const below of part) await walk(below, [...way, entry.name]);
    }
  };
  for (const entry of entries) await walk(entry, []);
  return found;
}

/** What is under way, what is done, and what failed and why. */
export function UploadTray({ uploads }: { uploads: Uploads }) {
  const [open, setOpen] = useState(true);
  const { all } = uploads;
  if (all.length === 0) return null;
  const done = all.filter((s) => s.state === "done").length;
  const failed = all.filter((s) => s.state === "failed");
  const busy = all.some((s) => s.state === "waiting" || s.state === "under way");
  const bytes = all.reduce((n, s) => n + s.file.size, 0);
  const sent = all.reduce((n, s) => n + s.sent, 0);
  const headline = busy
    ? `Sending ${done + 1} of ${count(all.length, "file")}, ${size(sent)} of ${size(bytes)}`
    : failed.length > 0
      ? `${count(done, "file")} sent, ${failed.length} not`
      : `${count(done, "file")} sent`;
  return (
    <section
      aria-label="Uploads"
      className="fixed right-4 bottom-4 z-30 w-[360px] max-w-[calc(100vw-2rem)] rounded-xl border border-line bg-sheet shadow-lg max-sm:bottom-20"
    >
      <div className="flex items-center gap-1 py-1 pr-1 pl-4">
        <span role="status" className="flex-1 font-semibold">
          {headline}
        </span>
        <IconButton label={open ? "Fold up" : "Unfold"} onClick={() => setOpen(!open)}>
          {open ? <ChevronDown size={18} /> : <ChevronUp size={18} />}
        </IconButton>
        {!busy && (
          <IconButton label="Close uploads" onClick={uploads.clear}>
            <X size={18} />
          </IconButton>
        )}
      </div>
      {busy && <Bar part={bytes === 0 ? 0 : sent / bytes} />}
      {open && (
        <ul className="max-h-64 overflow-y-auto px-4 pb-2">
          {all.slice(-200).map((s) => (
            <li key={s.id} className="py-1.5 text-[14.5px]">
              <div className="flex items-center gap-2">
                <span className="min-w-0 flex-1 truncate" title={[...s.way, s.file.name].join("/")}>
                  {[...s.way, s.file.name].join("/")}
                </span>
                <span className={s.state === "failed" ? "text-brick" : "text-muted"}>
                  {s.state === "under way" && s.file.size > 0
                    ? `${Math.floor((100 * s.sent) / s.file.size)} %`
                    : s.state === "failed"
                      ? "not sent"
                      : s.state}
                </span>
                {(s.state === "failed" || s.state === "stopped") && (
                  <IconButton
                    label={`Send ${s.file.name} again`}
                    className="size-7"
                    onClick={() => uploads.retry(s.id)}
                  >
                    <RotateCcw size={16} />
                  </IconButton>
                )}
                {(s.state === "waiting" || s.state === "under way") && (
                  <IconButton
                    label={`Stop ${s.file.name}`}
                    className="size-7"
                    onClick={() => uploads.stop(s.id)}
                  >
                    <X size={16} />
                  </IconButton>
                )}
              </div>
              {s.why && s.state === "failed" && <p className="text-brick">{s.why}</p>}
            </li>
          ))}
        </ul>
      )}
    </section>
  );
}

function Bar({ part }: { part: number }) {
  return (
    <div className="mx-4 mb-2 h-1.5 overflow-hidden rounded bg-line">
      <div className="h-full bg-gold" style={{ width: `${Math.min(100, part * 100)}%` }} />
    </div>
  );
}
