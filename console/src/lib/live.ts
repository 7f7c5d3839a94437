/** Pages follow the service: changes come as events, and what they touch is read anew. */

import type { InfiniteData, QueryClient } from "@tanstack/react-query";
import { useEffect, useSyncExternalStore } from "react";
import type { Change, Entries } from "./api";
import { key, type Keys } from "./query-keys";

/** A change as an event tells it: on which shelf, and from which folder it came if it was in another one. */
interface Heard {
  root: number;
  from?: number;
  change: Change;
}

/** Changes are gathered this long; long lists are read anew less often. */
const gather = 60;
const longListEvery = 3_000;

/** A page that was hidden for so long lets its line go. */
const hiddenFor = 20_000;

let broken = false;
const watchers = new Set<() => void>();

function setBroken(now: boolean) {
  if (broken === now) return;
  broken = now;
  watchers.forEach((w) => w());
}

/** Whether the line to the service is broken. */
export function useBroken(): boolean {
  return useSyncExternalStore(
    (watch) => {
      watchers.add(watch);
      return () => watchers.delete(watch);
    },
    () => broken,
  );
}

/** Follows changes as long as somebody is signed in. */
export function useLive(queries: QueryClient, signedIn: boolean) {
  useEffect(() => {
    if (!signedIn) return;
    let source: EventSource | undefined;
    let again: ReturnType<typeof setTimeout> | undefined;
    let told: ReturnType<typeof setTimeout> | undefined;
    let waiting: Heard[] = [];
    let timer: ReturnType<typeof setTimeout> | undefined;
    let last = 0;

    const apply = () => {
      timer = undefined;
      const changes = waiting;
      waiting = [];
      last = Date.now();
      touch(queries, changes);
    };
    const open = () => {
      source = new EventSource("/api/v1/events");
      let before = false;
      source.addEventListener("ready", () => {
        clearTimeout(told);
        setBroken(false);
        // Changes of rights meanwhile were not told.
        if (before) void queries.invalidateQueries();
        before = true;
      });
      source.addEventListener("change", (e) => {
        waiting.push(JSON.parse((e as MessageEvent<string>).data) as Heard);
        const pause = Math.max(gather, waiting.length > 50 ? 500 - (Date.now() - last) : 0);
        timer ??= setTimeout(apply, pause);
      });
      // What one may see is more or less now: everything in sight is read anew.
      source.addEventListener("access", () => void queries.invalidateQueries());
      // What went meanwhile is not known any more.
      source.addEventListener("anew", () => void queries.invalidateQueries());
      source.addEventListener("openings", () => {
        for (const name of ["openings", "given", "deliveries"] as (keyof Keys)[]) {
          void queries.invalidateQueries({ queryKey: [name] });
        }
      });
      // A lock is no change of a file: what shows locks is read anew, as far as it is in sight.
      source.addEventListener("locks", () => {
        for (const name of ["place", "entries"] as (keyof Keys)[]) {
          void queries.invalidateQueries({ queryKey: [name], predicate: (q) => q.queryKey[2] === undefined });
        }
      });
      source.addEventListener("end", () => void queries.invalidateQueries({ queryKey: key("welcome") }));
      source.addEventListener("error", () => {
        // A short break is taken up by the browser unseen.
        clearTimeout(told);
        told = setTimeout(() => setBroken(true), 2_000);
        if (source?.readyState === EventSource.CLOSED) {
          again = setTimeout(() => {
            open();
            // What happened meanwhile was not told.
            void queries.invalidateQueries();
          }, 3_000);
        }
      });
    };
    // A browser has few lines to one service: a page that nobody sees, or that is only kept for going
    // back to it, holds none.
    let hidden: ReturnType<typeof setTimeout> | undefined;
    const rest = () => {
      clearTimeout(again);
      clearTimeout(told);
      source?.close();
      source = undefined;
    };
    const wake = () => {
      clearTimeout(hidden);
      if (source) return;
      open();
      void queries.invalidateQueries();
    };
    const seen = () => {
      if (document.visibilityState === "visible") wake();
      else hidden = setTimeout(rest, hiddenFor);
    };
    open();
    window.addEventListener("pagehide", rest);
    window.addEventListener("pageshow", wake);
    document.addEventListener("visibilitychange", seen);
    return () => {
      window.removeEventListener("pagehide", rest);
      window.removeEventListener("pageshow", wake);
      document.removeEventListener("visibilitychange", seen);
      clearTimeout(hidden);
      source?.close();
      clearTimeout(again);
      clearTimeout(told);
      clearTimeout(timer);
      setBroken(false);
    };
  }, [queries, signedIn]);
}

const refreshed = new Map<string, number>();

/** Reads anew what changes touch. */
export function touch(queries: QueryClient, changes: Heard[]) {
  const folders = new Set<number>();
  const nodes = new Set<number>();
  for (const { change, from } of changes) {
    nodes.add(change.node.id);
    if (change.node.parent !== undefined) folders.add(change.node.parent);
    if (from) folders.add(from);
  }
  void queries.invalidateQueries({ queryKey: key("shelves") });
  void queries.invalidateQueries({ queryKey: key("place"), predicate: (q) => q.queryKey[2] === undefined });
  void queries.invalidateQueries({ queryKey: key("activity") });
  void queries.invalidateQueries({ queryKey: key("recent") });
  void queries.invalidateQueries({ queryKey: key("found") });
  void queries.invalidateQueries({ queryKey: key("folders") });
  void queries.invalidateQueries({ queryKey: key("trash") });
  void queries.invalidateQueries({ queryKey: key("space") });
  void queries.invalidateQueries({ queryKey: key("folder space") });
  void queries.invalidateQueries({
    queryKey: key("history"),
    predicate: (q) => nodes.has(q.queryKey[1] as number),
  });
  for (const query of queries.getQueryCache().findAll({ queryKey: key("entries") })) {
    const [, folder, at] = query.queryKey as [string, number, string | undefined];
    const data = query.state.data as InfiniteData<Entries> | undefined;
    if (at !== undefined && data) continue;
    const pages = data?.pages ?? [];
    const within = folders.has(folder) || pages.some((p) => p.entries.some((e) => nodes.has(e.id)));
    // Sums of folders in sight change with anything beneath them.
    const near = pages.length <= 1 && pages.some((p) => p.entries.some((e) => e.kind === "folder"));
    if (!within && !near) continue;
    const wait = pages.length > 5 ? longListEvery : 0;
    const hash = query.queryHash;
    const due = (refreshed.get(hash) ?? 0) + wait - Date.now();
    const read = () => {
      refreshed.set(hash, Date.now());
      void queries.invalidateQueries({ queryKey: query.queryKey, exact: true });
    };
    if (due <= 0) read();
    else if (!refreshed.has(`${hash} waits`)) {
      refreshed.set(`${hash} waits`, 1);
      setTimeout(() => {
        refreshed.delete(`${hash} waits`);
        read();
      }, due);
    }
  }
}
