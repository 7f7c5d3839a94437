/** Work in the background, and backups, as the API has them. */

import { call } from "./api";
import type { Api } from "./api-shapes";

export type Job = Api<"Job">;
export type Jobs = Api<"Jobs">;
export type BackupState = Api<"BackupState">;

export const jobs = {
  all: () => call<Jobs>("GET", "/jobs"),
  stop: (id: number) => call<void>("POST", `/jobs/${id}/stop`),
  backup: () => call<void>("POST", "/jobs/backup"),
};
