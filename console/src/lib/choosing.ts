/** People and groups as things to choose, found by the service. */

import type { Choosable } from "../ui";
import { api, type Account, type AccountsFilter } from "./api";

const most = 30;

export const asChoice = (a: Account): Choosable => ({
  key: a.sign_in,
  name: a.display_name,
  note: a.sign_in,
});

/** Accounts by words. */
export async function findAccounts(words: string, of: AccountsFilter = {}) {
  const page = await api.accounts({ ...of, words: words || undefined, limit: most });
  return { found: page.accounts.map(asChoice), total: page.total };
}

/** Those who can own something: no guests, and nobody who is disabled. */
export async function findOwners(words: string) {
  const page = await api.accounts({ words: words || undefined, state: "active", limit: most });
  const found = page.accounts.filter((a) => a.role !== "guest");
  return { found: found.map(asChoice), total: page.total - (page.accounts.length - found.length) };
}

/** Groups by words. */
export async function findGroups(words: string) {
  const page = await api.groups({ words: words || undefined, limit: most });
  return { found: page.groups.map((g) => ({ key: g.name, name: g.name, note: g.note })), total: page.total };
}
