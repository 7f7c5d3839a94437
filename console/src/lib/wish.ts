/** What somebody asked for with a command, and is to decide on here: a dialog is opened with it, filled in. */

import type { Gives } from "./api";

export interface Wish {
  /** A link, an intake, or access for somebody. */
  give: "link" | "intake" | "access";
  can?: string;
  title?: string;
  message?: string;
  begins?: string;
  ends?: string;
  most?: number;
  ending?: string;
  /** For whom, of access. */
  to?: string;
}

const levels = ["view", "download", "add", "edit", "manage", "deny"];

/** The wish in a page's address; nothing if there is none. */
export function wishOf(search: URLSearchParams): Wish | undefined {
  const give = search.get("give");
  if (give !== "link" && give !== "intake" && give !== "access") return undefined;
  const text = (name: string) => search.get(name) ?? undefined;
  const time = (name: string) => {
    const at = search.get(name);
    return at !== null && !Number.isNaN(Date.parse(at)) ? at : undefined;
  };
  const most = Number(search.get("most"));
  const can = text("can");
  return {
    give,
    can: can !== undefined && levels.includes(can) ? can : undefined,
    title: text("title"),
    message: text("message"),
    begins: time("begins"),
    ends: time("ends"),
    most: Number.isInteger(most) && most > 0 ? most : undefined,
    ending: text("ending"),
    to: text("to"),
  };
}

/** The same for access, where fewer levels are. */
export function levelOf(wish: Wish | undefined): Gives | undefined {
  const { can } = wish ?? {};
  return can === "download" ? undefined : (can as Gives | undefined);
}
