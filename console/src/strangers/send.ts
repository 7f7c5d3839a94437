/** Sending files by a link or an intake: resumable, with progress; a broken line is waited for. */

import "./open";
import { Upload as Tus, type DetailedError } from "tus-js-client";
import { dropped, type Chosen } from "../lib/dropped";
import { size } from "../lib/show";

/** Files sent at a time. */
const atOnce = 4;
/** The rate is measured over this long. */
const rateOver = 5_000;

type Fate = "waiting" | "under way" | "done" | "failed";

interface Item {
  file: File;
  way: string;
  sent: number;
  fate: Fate;
  why?: string;
  row: HTMLLIElement;
  upload?: Tus;
}

interface Receipt {
  sender: string;
  begun: string;
  done?: string;
  files: { path: string; size: number; blake3: string }[];
  bytes: number;
}

interface Problem {
  detail?: string;
  remedy?: string;
  code?: string;
}

const at = new Intl.DateTimeFormat(undefined, { dateStyle: "long", timeStyle: "short" });

function element<K extends keyof HTMLElementTagNameMap>(
  kind: K,
  text = "",
  name = "",
): HTMLElementTagNameMap[K] {
  const made = document.createElement(kind);
  made.textContent = text;
  made.className = name;
  return made;
}

function problemIn(text: string | undefined): Problem {
  try {
    return JSON.parse(text ?? "") as Problem;
  } catch {
    return {};
  }
}

function inWords(problem: Problem, otherwise: string): string {
  return problem.detail ? `${problem.detail} ${problem.remedy ?? ""}`.trim() : otherwise;
}

/** A queue of files, shown as a list. */
class Sender {
  readonly items: Item[] = [];
  private moved: { at: number; bytes: number }[] = [];
  private timer?: ReturnType<typeof setTimeout>;

  constructor(
    private readonly endpoint: string,
    private readonly list: HTMLElement,
    /** What each request carries besides, once it is known. */
    private readonly headers: () => Promise<Record<string, string>>,
    private readonly told: () => void,
  ) {
    window.addEventListener("beforeunload", (e) => {
      if (this.busy) e.preventDefault();
    });
    window.addEventListener("online", () => this.retry());
  }

  get busy() {
    return this.items.some((i) => i.fate === "under way" || i.fate === "waiting");
  }

  get total() {
    return this.items.reduce((n, i) => n + i.file.size, 0);
  }

  get sent() {
    return this.items.reduce((n, i) => n + (i.fate === "done" ? i.file.size : i.sent), 0);
  }

  /** Bytes a second, over the last moments. */
  get rate() {
    const first = this.moved[0];
    const last = this.moved[this.moved.length - 1];
    if (!first || !last || last.at - first.at < 500) return 0;
    return ((last.bytes - first.bytes) * 1000) / (last.at - first.at);
  }

  add(chosen: Chosen[]) {
    for (const { file, way } of chosen) {
      if (!file) continue;
      const row = element("li");
      const name = element("span", [...way, file.name].join("/"), "name");
      const fate = element("span", size(file.size), "fate");
      const bar = document.createElement("progress");
      bar.max = 1;
      bar.value = 0;
      bar.setAttribute("aria-label", `${file.name}, sent so far`);
      const drop = element("button", "Leave out", "other");
      drop.type = "button";
      drop.setAttribute("aria-label", `Leave out ${file.name}`);
      row.append(name, fate, drop, bar);
      this.list.append(row);
      const item: Item = {
        file,
        way: way.map((w) => w.normalize("NFC")).join("/"),
        sent: 0,
        fate: "waiting",
        row,
      };
      drop.addEventListener("click", () => {
        void item.upload?.abort(true).catch(() => {});
        this.items.splice(this.items.indexOf(item), 1);
        row.remove();
        this.told();
      });
      this.items.push(item);
    }
    this.told();
  }

  retry() {
    for (const i of this.items) {
      if (i.fate === "failed") Object.assign(i, { fate: "waiting", why: undefined });
    }
    this.work();
  }

  /** Sends what waits; resolves nothing, `told` is called at each turn. */
  work() {
    for (const item of this.items) {
      if (this.items.filter((i) => i.fate === "under way").length >= atOnce) break;
      if (item.fate === "waiting") void this.send(item);
    }
    this.show();
  }

  private async send(item: Item) {
    item.fate = "under way";
    try {
      const headers = await this.headers();
      await new Promise<void>((ok, no) => {
        const metadata: Record<string, string> = { filename: item.file.name.normalize("NFC"), way: item.way };
        if (item.file.lastModified) metadata.modified = new Date(item.file.lastModified).toISOString();
        item.upload = new Tus(item.file, {
          endpoint: this.endpoint,
          headers,
          metadata,
          // Small files go in one request with their beginning.
          uploadDataDuringCreation: true,
          chunkSize: 64 * 1024 * 1024,
          // A broken line is waited for, longer and longer.
          retryDelays: [0, 1000, 3000, 5000, 10_000, 30_000, 60_000],
          onShouldRetry: (e) => {
            const status = e.originalResponse?.getStatus() ?? 0;
            return status === 0 || status === 409 || status === 423 || status === 429 || status >= 500;
          },
          storeFingerprintForResuming: false,
          onProgress: (sent) => {
            item.sent = sent;
            this.later();
          },
          onSuccess: () => ok(),
          onError: (e) => no(e),
        });
        item.upload.start();
      });
      item.fate = "done";
      item.sent = item.file.size;
    } catch (e) {
      item.fate = "failed";
      const answer = (e as DetailedError).originalResponse?.getBody();
      // Of what was refused nothing is kept; after a broken line what has arrived counts.
      if (answer) item.sent = 0;
      item.why =
        e instanceof Told
          ? e.message
          : inWords(problemIn(answer), "The line broke. What has arrived is kept; it goes on from there.");
    }
    this.work();
  }

  private later() {
    this.timer ??= setTimeout(() => {
      this.timer = undefined;
      this.show();
    }, 200);
  }

  private show() {
    const now = Date.now();
    this.moved.push({ at: now, bytes: this.sent });
    this.moved = this.moved.filter((m) => now - m.at < rateOver);
    for (const i of this.items) {
      const fate = i.row.querySelector<HTMLElement>(".fate")!;
      const words = {
        waiting: size(i.file.size),
        "under way": `${size(i.sent)} of ${size(i.file.size)}`,
        done: `${size(i.file.size)}, arrived`,
        failed: i.why ?? "not sent",
      };
      fate.textContent = words[i.fate];
      i.row.dataset.fate = i.fate;
      i.row.querySelector("progress")!.value = i.file.size ? i.sent / i.file.size : i.fate === "done" ? 1 : 0;
      const drop = i.row.querySelector("button");
      if (i.fate === "done") drop?.remove();
    }
    this.told();
  }
}

/** A refusal that is already in words. */
class Told extends Error {}

function choosing(place: HTMLElement, take: (chosen: Chosen[]) => void) {
  const drop = place.querySelector<HTMLElement>(".drop");
  for (const input of place.querySelectorAll<HTMLInputElement>("input[type=file]")) {
    (input.previousElementSibling as HTMLButtonElement).addEventListener("click", () => input.click());
    input.addEventListener("change", () => {
      const files = [...(input.files ?? [])];
      take(files.map((file) => ({ file, way: file.webkitRelativePath.split("/").slice(0, -1) })));
      input.value = "";
    });
  }
  for (const kind of ["dragover", "dragleave", "drop"]) {
    document.addEventListener(kind, (e) => {
      e.preventDefault();
      drop?.classList.toggle("over", kind === "dragover");
    });
  }
  document.addEventListener("drop", (e) => {
    if (e.dataTransfer) void dropped(e.dataTransfer).then(take);
  });
}

/** Into a folder that a link lets add to: at once. */
function sendInto(place: HTMLElement) {
  const base = place.dataset.send!;
  const list = place.querySelector<HTMLElement>(".sending")!;
  const way = place.dataset.way ?? "";
  const sender = new Sender(
    `${base}/uploads`,
    list,
    async () => ({}),
    () => {
      const over = sender.items.length > 0 && sender.items.every((i) => i.fate === "done");
      // What was added stands in the list.
      if (over) location.reload();
    },
  );
  choosing(place, (chosen) => {
    sender.add(chosen.map((c) => ({ ...c, way: [...way.split("/").filter(Boolean), ...c.way] })));
    sender.work();
  });
}

/** A delivery at an intake: collected first, handed in together. */
function handIn(place: HTMLElement) {
  const base = place.dataset.give!;
  const key = `delivery ${base}`;
  const button = place.querySelector<HTMLButtonElement>("button.main")!;
  const sum = place.querySelector<HTMLElement>(".sum")!;
  const form = place.querySelector<HTMLFormElement>("form.who")!;
  const receipt = document.querySelector<HTMLElement>(".receipt")!;
  const largest = Number(place.dataset.largest ?? Infinity);
  const all = Number(place.dataset.all ?? Infinity);
  let secret: Promise<string> | undefined;
  let arrived: Receipt | undefined;
  let sending = false;
  let said = "";

  const kept = () => {
    try {
      return localStorage.getItem(key) ?? undefined;
    } catch {
      return undefined;
    }
  };
  const keep = (value?: string) => {
    try {
      if (value) localStorage.setItem(key, value);
      else localStorage.removeItem(key);
    } catch {
      // Without storage only coming back to the page does not work.
    }
  };
  const ask = async (
    path: string,
    { headers, ...options }: Omit<RequestInit, "headers"> & { headers?: Record<string, string> } = {},
  ) => {
    const answer = await fetch(base + path, {
      ...options,
      headers: { Accept: "application/json", ...headers },
    });
    if (!answer.ok) throw new Told(inWords(problemIn(await answer.text()), "It was refused. Try again."));
    return answer;
  };
  const begin = async () => {
    const data = new FormData(form);
    const body = JSON.stringify({ name: data.get("name"), mail: data.get("mail") ?? undefined });
    const answer = await ask("/deliveries", {
      method: "POST",
      body,
      headers: { "Content-Type": "application/json" },
    });
    const begun = ((await answer.json()) as { delivery: string }).delivery;
    keep(begun);
    return begun;
  };

  const tell = () => {
    const items = sender.items;
    const failed = items.filter((i) => i.fate === "failed").length;
    const done = items.filter((i) => i.fate === "done").length;
    const here = arrived ? `${arrived.files.length} files (${size(arrived.bytes)}) arrived earlier. ` : "";
    const over =
      sender.total > all
        ? `All together are ${size(sender.total)}; ${size(all)} are taken. Leave some out. `
        : "";
    const tooLarge = items.filter((i) => i.fate === "waiting" && i.file.size > largest);
    for (const i of tooLarge) {
      Object.assign(i, {
        fate: "failed",
        why: `Larger than ${size(largest)}, the most that is taken. Leave it out.`,
      });
      i.row.dataset.fate = "failed";
      i.row.querySelector(".fate")!.textContent = i.why!;
    }
    if (sending) {
      const rate = sender.rate;
      const left = sender.total - sender.sent;
      const pace = rate > 0 && left > 0 ? `, ${size(rate)}/s, ${time(left / rate)} left` : "";
      sum.textContent = `${here}${done} of ${items.length} files, ${size(sender.sent)} of ${size(sender.total)}${pace}. ${failed ? `${failed} not sent. ` : ""}${said}`;
    } else {
      sum.textContent = items.length
        ? `${here}${over}${items.length} files, ${size(sender.total)}. ${said}`
        : `${here}${said}`;
    }
    const ready = items.length > 0 || (arrived?.files.length ?? 0) > 0;
    button.disabled = !ready || over !== "" || (sending && sender.busy) || place.dataset.full !== undefined;
    button.textContent = sending && failed && !sender.busy ? "Try again" : "Hand in";
    if (sending && !sender.busy && !failed) void finish();
  };
  const sender = new Sender(
    `${base}/uploads`,
    place.querySelector<HTMLElement>(".sending")!,
    async () => {
      secret ??= begin();
      return { Delivery: await secret };
    },
    tell,
  );

  let finishing = false;
  const finish = async () => {
    if (finishing || !secret) return;
    finishing = true;
    try {
      const answer = await ask("/done", { method: "POST", headers: { Delivery: await secret } });
      keep();
      show((await answer.json()) as Receipt);
    } catch (e) {
      said = e instanceof Told ? e.message : "The line broke. Try again.";
      sending = false;
      finishing = false;
      tell();
    }
  };
  const show = (done: Receipt) => {
    place.hidden = true;
    const list = element("ul", "", "list");
    for (const f of done.files) {
      const row = element("li");
      row.append(
        element("span", f.path, "name"),
        element("span", size(f.size), "size"),
        element("code", f.blake3, "hash"),
      );
      list.append(row);
    }
    const lines = done.files.map((f) => `${f.blake3}  ${f.path}  ${f.size} bytes`);
    const text = [
      `Handed in by ${done.sender}, ${done.done ?? done.begun}`,
      "",
      "BLAKE3, name, size",
      ...lines,
      "",
    ].join("\n");
    const keepIt = element("a", "Keep this receipt", "main");
    keepIt.href = URL.createObjectURL(new Blob([text], { type: "text/plain" }));
    keepIt.download = "receipt.txt";
    const again = element("a", "Hand in something else", "other");
    again.href = base;
    const acts = element("div", "", "acts");
    acts.append(keepIt, again);
    const head = element("h2", "It has arrived");
    head.tabIndex = -1;
    const n = done.files.length;
    receipt.append(
      head,
      element(
        "p",
        `${done.sender}, ${at.format(new Date(done.done ?? done.begun))}: ${n} ${n === 1 ? "file" : "files"}, ${size(done.bytes)}. Below each stands its BLAKE3 checksum.`,
      ),
      list,
      acts,
    );
    receipt.hidden = false;
    head.focus();
  };

  choosing(place, (chosen) => {
    sender.add(chosen);
    if (sending) sender.work();
  });
  button.addEventListener("click", () => {
    if (!secret && !form.reportValidity()) return;
    said = "";
    sending = true;
    for (const input of form.querySelectorAll("input")) input.readOnly = true;
    secret ??= begin().catch((e: unknown) => {
      secret = undefined;
      sending = false;
      said = e instanceof Told ? e.message : "The line broke. Try again.";
      for (const input of form.querySelectorAll("input")) input.readOnly = false;
      tell();
      throw e;
    });
    secret.then(
      () => (sender.items.length ? sender.retry() : void finish()),
      () => {},
    );
    tell();
  });

  // Somebody who was broken off comes back: their delivery goes on.
  const before = kept();
  if (before) {
    ask("/delivery", { headers: { Delivery: before } })
      .then(async (answer) => {
        arrived = (await answer.json()) as Receipt;
        if (arrived.done) return keep();
        secret = Promise.resolve(before);
        delete place.dataset.full;
        place.querySelector(".full")?.remove();
        const name = form.querySelector<HTMLInputElement>("input[name=name]")!;
        name.value = arrived.sender;
        name.readOnly = true;
        form.querySelector<HTMLInputElement>("input[name=mail]")?.removeAttribute("required");
        said = "Choose what is still missing, then hand it in.";
        tell();
      })
      .catch(() => keep());
  }
  tell();
}

function time(seconds: number): string {
  if (seconds < 60) return `${Math.ceil(seconds)} s`;
  if (seconds < 3600) return `${Math.ceil(seconds / 60)} min`;
  return `${Math.ceil(seconds / 3600)} h`;
}

for (const place of document.querySelectorAll<HTMLElement>("[data-send]")) sendInto(place);
for (const place of document.querySelectorAll<HTMLElement>("[data-give]")) handIn(place);
