/** Trash, versions, snapshots, rollbacks, alarms, quotas and space, as the API has them. */

import type { Api } from "./api-shapes";
import { call, proved, query } from "./api";
import type { Going, Quota } from "./past";

export type Removed = Api<"Removed">;
export type Trash = Api<"Trash">;
export type LetGo = Api<"LetGo">;
export type Comparison = Api<"Comparison">;
export type Snapshot = Api<"Snapshot">;
export type Snapshots = Api<"Snapshots">;
export type RollbackLine = Api<"RollbackLine">;
export type RollbackPreview = Api<"RollbackPreview">;
export type Rollback = Api<"Rollback">;
export type Alarm = Api<"Alarm">;
export type Held = Api<"Held">;
export type ShelfSpace = Api<"ShelfSpace">;
export type Stored = Api<"Stored">;
export type SpaceDay = Api<"SpaceDay">;
export type Space = Api<"Space">;
export type ChildSpace = Api<"ChildSpace">;
export type StoreState = Api<"StoreState">;
export type WallClock = Api<"WallClock">;
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
