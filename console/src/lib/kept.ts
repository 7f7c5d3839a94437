/** Trash, versions, snapshots, rollbacks, alarms, quotas and space, as the API has them. */

import { call, proved, query, type Kind, type Node } from "./api";
import type { Going, Quota } from "./past";

export interface Removed {
  node: Node;
  files: number;
  path: string;
  removed: string;
  removed_by?: string;
  last_there: string;
  place: boolean;
  goes?: string;
  hold: boolean;
}

export interface Trash {
  items: Removed[];
  next?: string;
  bytes: number;
  files: number;
}

export interface LetGo {
  nodes?: number[];
  folder?: number;
  version?: string;
  by_rules?: boolean;
}

export interface Comparison {
  lines: { what: "same" | "removed" | "added" | "gap"; before?: number; after?: number; text: string }[];
  removed: number;
  added: number;
}

export interface Snapshot {
  id: number;
  shelf: string;
  moment: string;
  at: string;
  label: string;
  by?: string;
  schedule?: string;
  ends?: string;
}

export interface Snapshots {
  snapshots: Snapshot[];
  schedules: string;
  only_bytes: number;
}

export interface RollbackLine {
  node: number;
  path: string;
  kind: Kind;
  what: "returns" | "moves back" | "changes" | "goes" | "stays";
  why?: string;
  size: number;
  others: boolean;
  by?: string;
  changed?: string;
}

export interface RollbackPreview {
  to: string;
  at: string;
  steps: number;
  returns: number;
  return_bytes: number;
  changes: number;
  change_bytes: number;
  moves: number;
  goes: number;
  go_bytes: number;
  stays: number;
  others: number;
  kept: number;
  lines: RollbackLine[];
  token: string;
}

export interface Rollback {
  id: number;
  node: number;
  path: string;
  to: string;
  at: string;
  before: string;
  by: string;
  made: string;
  state: "running" | "done" | "stopped";
  ended?: string;
  steps: number;
  done: number;
  bytes: number;
  bytes_done: number;
  undoes?: number;
  left_alone: [name: string, why: string][];
}

export interface Alarm {
  id: number;
  shelf: string;
  root: number;
  /** Its path, if one may enter it. */
  path?: string;
  by?: string;
  device?: string;
  before: string;
  before_at: string;
  from: string;
  until: string;
  files: number;
  of: number;
  ending?: string;
  shut: boolean;
  settled?: string;
}

export interface Held {
  live: number;
  files: number;
  versions: number;
  version_states: number;
  trash: number;
  trash_files: number;
  only_snapshots: number;
  all: number;
}

export interface ShelfSpace {
  root: number;
  title: string;
  kind: "home" | "shared";
  held: Held;
  quota?: number;
}

export interface Stored {
  logical: number;
  whole: number;
  chunks: number;
  overhead: number;
  saved: number;
  packed: number;
  chunk_count: number;
  catalogue: number;
  staging: number;
  free: number;
  total: number;
}

export interface SpaceDay {
  day: number;
  live: number;
  versions: number;
  trash: number;
}

export interface Space {
  held: Held;
  shelves: ShelfSpace[];
  stored?: Stored;
  largest: { node: number; path: string; size: number; changed: string }[];
  growing: { node: number; path: string; bytes: number }[];
  days: SpaceDay[];
}

export interface ChildSpace {
  node: number;
  name: string;
  kind: Kind;
  held: Held;
}

/** How the store stands: the disk's promise, the catalogue's age, shelves that wait, what was noticed. */
export interface StoreState {
  durability: "kept" | "unsafe" | "unknown";
  why: string;
  older_catalogue: boolean;
  secrets?: string;
  stopped: { shelf: string; why: string }[];
  findings: { at: string; kind: string; detail: string }[];
}

/** The wall clock, as the service believes it. */
export interface WallClock {
  now: string;
  /** By how much it was set, if that is not confirmed yet. */
  /** By what the past goes: the newest time kept, and what has passed since. */
  kept: string;
  leapt_ms?: number;
}

export const kept = {
  trash: (folder: number, cursor?: string) =>
    call<Trash>("GET", `/nodes/${folder}/trash${query({ limit: 200, cursor })}`),
  clock: () => call<WallClock>("GET", "/past/clock"),
  store: () => call<StoreState>("GET", "/store"),
  confirmClock: () => proved(() => call<WallClock>("POST", "/past/clock")),
  lookAtLettingGo: (what: LetGo) => call<Going>("POST", "/past/let-go", { ...what, preview: true }),
  letGo: (what: LetGo, token: string) =>
    proved(() => call<Going>("POST", "/past/let-go", { ...what, token })),
  nameVersion: (node: number, moment: string, label: string) =>
    call<void>("PUT", `/nodes/${node}/versions/${encodeURIComponent(moment)}`, { label }),
  compare: (node: number, from: string, to?: string) =>
    call<Comparison>("GET", `/nodes/${node}/comparison${query({ from, to })}`),
  snapshots: (root: number) => call<Snapshots>("GET", `/shelves/${root}/snapshots`),
  takeSnapshot: (root: number, body: { label: string; ends?: string }) =>
    call<Snapshot>("POST", `/shelves/${root}/snapshots`, body),
  changeSnapshot: (id: number, body: { label?: string; ends?: string }) =>
    proved(() => call<Snapshot>("PATCH", `/snapshots/${id}`, body)),
  endSnapshot: (id: number) => proved(() => call<void>("DELETE", `/snapshots/${id}`)),
  lookAtRollback: (folder: number, to: string, keep: number[]) =>
    call<RollbackPreview>(
      "GET",
      `/nodes/${folder}/rollback${query({ to, keep: keep.length > 0 ? keep.join() : undefined })}`,
    ),
  rollBack: (folder: number, body: { to: string; token: string; keep: number[] }) =>
    call<Rollback>("POST", `/nodes/${folder}/rollback`, body),
  rollback: (id: number) => call<Rollback>("GET", `/rollbacks/${id}`),
  rollbacks: (root: number) => call<{ rollbacks: Rollback[] }>("GET", `/shelves/${root}/rollbacks`),
  stopRollback: (id: number) => call<Rollback>("POST", `/rollbacks/${id}/stop`),
  undoRollback: (id: number) => call<Rollback>("POST", `/rollbacks/${id}/undo`),
  alarms: () => call<{ alarms: Alarm[] }>("GET", "/alarms"),
  settle: (id: number) => proved(() => call<void>("POST", `/alarms/${id}/settle`)),
  space: () => call<Space>("GET", "/space"),
  folderSpace: (folder: number) =>
    call<{ held: Held; children: ChildSpace[] }>("GET", `/nodes/${folder}/space`),
  quotas: () => call<{ quotas: Quota[]; counts: string }>("GET", "/quotas"),
  setQuota: (body: { of: string; soft?: string; hard?: string }) =>
    proved(() => call<{ quotas: Quota[]; counts: string }>("PUT", "/quotas", body)),
};
