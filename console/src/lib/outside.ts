/** Links, intakes, and all that was given out, as the API has them. */

import { call, proved, query } from "./api";

export type OpeningKind = "link" | "intake";

export interface Opening {
  id: number;
  kind: OpeningKind;
  /** "open", or why not. */
  state: string;
  sentence: string;
  node: number;
  name: string;
  path?: string;
  folder: boolean;
  address?: string;
  own_ending: boolean;
  can: "view" | "download" | "add" | "edit";
  title: string;
  message: string;
  password: boolean;
  begins?: string;
  ends?: string;
  until?: string;
  most?: number;
  used: number;
  used_at?: string;
  used_from?: string;
  guessed_at?: string;
  /** Uploads through it that are not whole yet, and how many bytes of them are here. */
  coming: number;
  coming_bytes: number;
  largest_file?: number;
  largest_all?: number;
  kinds: string;
  asks_mail: boolean;
  by: string;
  at: string;
  mine: boolean;
}

/** What can be set; what is left out stays. Empty texts and 0 take something away. */
export interface OpeningSet {
  can?: string;
  title?: string;
  message?: string;
  password?: string;
  begins?: string;
  ends?: string;
  most?: number;
  largest_file?: number;
  largest_all?: number;
  kinds?: string;
  asks_mail?: boolean;
  paused?: boolean;
  confirmed?: boolean;
  ended?: boolean;
}

export interface Delivery {
  id: number;
  sender: string;
  mail?: string;
  from: string;
  folder?: number;
  begun: string;
  done?: string;
  state: "under way" | "done" | "broken off";
  files: number;
  bytes: number;
}

export interface Given {
  kind: OpeningKind | "share";
  id: number;
  node: number;
  name: string;
  path?: string;
  folder: boolean;
  to: string;
  can: string;
  state: string;
  sentence: string;
  until?: string;
  used?: number;
  most?: number;
  used_at?: string;
  used_from?: string;
  address?: string;
  password: boolean;
  by: string;
  at: string;
  mine: boolean;
}

export interface GivenFilter {
  all: boolean;
  /** Of one account, for administrators. */
  by?: string;
  words: string;
  kind: string;
  state: string;
}

export interface AddressCheck {
  address: string;
  findings: { good: boolean; what: string; remedy: string }[];
  seen: { address: string; times: number; last: string; right: boolean }[];
}

const filter = (f: GivenFilter, more: Record<string, string | number | undefined>) =>
  query({
    all: f.all ? "true" : undefined,
    by: f.by,
    words: f.words.trim() || undefined,
    kind: f.kind || undefined,
    state: f.state || undefined,
    ...more,
  });

export const outside = {
  openings: (of: { node?: number; kind?: OpeningKind }) =>
    call<{ openings: Opening[] }>("GET", `/openings${query(of)}`),
  opening: (id: number) => call<Opening>("GET", `/openings/${id}`),
  make: (body: { kind: OpeningKind; node: number; ending?: string; set: OpeningSet }) =>
    proved(() => call<Opening>("POST", "/openings", body)),
  change: (id: number, set: OpeningSet) => proved(() => call<Opening>("PATCH", `/openings/${id}`, set)),
  mail: (id: number, to: string[], message: string) =>
    call<void>("POST", `/openings/${id}/mail`, { to, message }),
  picture: (id: number) => `/api/v1/openings/${id}/qr`,
  deliveries: (id: number) => call<{ deliveries: Delivery[] }>("GET", `/openings/${id}/deliveries`),
  given: (f: GivenFilter, cursor?: string) =>
    call<{ given: Given[]; total: number; next?: string }>(
      "GET",
      `/given${filter(f, { cursor, limit: 100 })}`,
    ),
  table: (f: GivenFilter) => `/api/v1/given${filter(f, { format: "csv" })}`,
  changeMany: (body: {
    of: { kind: string; id: number }[];
    end?: boolean;
    paused?: boolean;
    ends?: string;
  }) =>
    proved(() =>
      call<{ done: number; refused: { kind: string; id: number; reason: string }[] }>(
        "POST",
        "/given/change",
        body,
      ),
    ),
  address: () => call<AddressCheck>("GET", "/public-address"),
};
