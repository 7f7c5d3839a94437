/** Links, intakes, and all that was given out, as the API has them. */

import type { Api } from "./api-shapes";
import { call, proved, query } from "./api";

export type OpeningKind = "link" | "intake";

export type Opening = Api<"Opening">;
export type OpeningSet = Api<"OpeningSet">;
export type Delivery = Api<"Delivery">;
export type Given = Api<"Given">;
export interface GivenFilter {
  all: boolean;
  /** Of one account, for administrators. */
  by?: string;
  words: string;
  kind: string;
  state: string;
}

export type AddressCheck = Api<"AddressCheck">;
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
