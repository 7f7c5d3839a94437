/** What `yattic sync run` tells its page, and what it can be asked for. */

import { Refusal } from "../lib/api";

export type Way = "both" | "down" | "up";

export interface Chosen {
  node: number;
  way: string[];
}

export interface Filter {
  only: Chosen[];
  without: Chosen[];
  patterns: string[];
  larger?: number | null;
}

export const everything: Filter = { only: [], without: [], patterns: [], larger: null };

export interface Left {
  path: string;
  why: string;
}

export interface Pair {
  id: string;
  service: string;
  local: string;
  remote: string;
  way: Way;
  paused: boolean;
  filter: Filter;
  /** Somebody has to allow what it asks for. */
  asks: boolean;
  seconds_left: number | null;
  state: string;
  trouble?: string;
  needs: boolean;
  rests?: string;
  same: number;
  to_do: number;
  to_move: number;
  doing: { what: string; path: string; done: number; of: number }[];
  rate: number;
  copies: string[];
  out: number;
  left: Left[];
  lately: { at: string; what: string; path: string }[];
  in_step_at?: string;
}

export interface Side {
  path: string;
  local: string;
  size: number;
  modified: string;
}

export interface Twice {
  pair: string;
  copy: Side;
  original: Side | null;
}

export interface Limits {
  up?: number | null;
  down?: number | null;
  quiet?: [string, string] | null;
}

/** A folder in which all of a service is at hand; what lies here is known while it is mounted. */
export interface Mounted {
  at: string;
  service: string;
  sums: {
    held: number;
    limit: number;
    owed: number;
    in_step: boolean;
    away?: string;
    trouble: Left[];
  } | null;
}

export interface Now {
  program: string;
  computer: string;
  services: Record<string, string>;
  mounts: Mounted[];
  pairs: Pair[];
  copies: Twice[];
  limits: Limits;
}

export interface Count {
  files: number;
  bytes: number;
}

export interface Out {
  count: Count;
  folders: number;
  examples: Left[];
}

export interface Preview {
  same: Count;
  send: Count;
  fetch: Count;
  twice: string[];
  left: Left[];
  out: Out;
}

export interface NewPair {
  service: string;
  local: string;
  remote: string;
  way: Way;
  filter: Filter;
}

export interface LocalFolder {
  path: string;
  above: string | null;
  folders: { name: string; path: string }[];
  taken: string | null;
  holds: string | null;
}

export interface Place {
  path: string | null;
  node: number | null;
  folders: { name: string; path: string; node: number }[];
  more: boolean;
}

async function call<T>(method: string, path: string, body?: unknown): Promise<T> {
  let answer: Response;
  try {
    answer = await fetch(`/here${path}`, {
      method,
      headers: body === undefined ? {} : { "content-type": "application/json" },
      body: body === undefined ? undefined : JSON.stringify(body),
    });
  } catch {
    throw new Refusal(
      "yattic sync run does not answer.",
      "away",
      "See whether it still runs, and open this page again: yattic sync page.",
      0,
    );
  }
  if (answer.ok) return (await answer.json()) as T;
  let told: { detail?: string; code?: string; remedy?: string } = {};
  try {
    told = (await answer.json()) as typeof told;
  } catch {
    // What it said is not for us.
  }
  const says = told.detail ?? `It answered with status ${answer.status}`;
  const sentence = says.charAt(0).toUpperCase() + says.slice(1);
  throw new Refusal(
    /[.?]$/.test(sentence) ? sentence : `${sentence}.`,
    told.code ?? "unknown",
    told.remedy ?? "",
    answer.status,
  );
}

const query = (values: Record<string, string | undefined>) => {
  const kept = Object.entries(values).filter((e): e is [string, string] => e[1] !== undefined);
  return kept.length === 0 ? "" : `?${new URLSearchParams(kept)}`;
};

export const here = {
  now: () => call<Now>("GET", "/now"),
  folders: (path: string | undefined) => call<LocalFolder>("GET", `/folders${query({ path })}`),
  makeFolder: (path: string) => call<null>("POST", "/folders", { path }),
  places: (service: string, path: string | undefined) =>
    call<Place>("GET", `/places${query({ service, path })}`),
  preview: (pair: NewPair) => call<Preview>("POST", "/pairs/preview", pair),
  add: (pair: NewPair) => call<unknown>("POST", "/pairs", pair),
  end: (id: string) => call<null>("DELETE", `/pairs/${id}`, null),
  previewFilter: (id: string, filter: Filter) => call<Out>("POST", `/pairs/${id}/filter/preview`, filter),
  setFilter: (id: string, filter: Filter) => call<unknown>("PUT", `/pairs/${id}/filter`, filter),
  allow: (id: string) => call<null>("POST", `/pairs/${id}/allow`, null),
  pause: (paused: boolean, pair?: string) => call<null>("POST", "/pause", { paused, pair }),
  setLimits: (limits: Limits) => call<Limits>("PUT", "/limits", limits),
  settle: (twice: Twice, keep: "copy" | "original" | "both") =>
    call<string>("POST", "/settle", { pair: twice.pair, copy: twice.copy.path, keep }),
  bytes: (twice: Twice, side: Side) => `/here/bytes${query({ pair: twice.pair, path: side.path })}`,
};
