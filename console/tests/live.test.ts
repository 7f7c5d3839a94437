import { QueryClient } from "@tanstack/react-query";
import { expect, test } from "vitest";
import { touch } from "../src/lib/live";
import { key } from "../src/lib/query-keys";

const node = (id: number, parent: number | undefined, kind: "file" | "folder" = "file") => ({
  id,
  parent,
  name: `n${id}`,
  kind,
  size: 1,
  modified: "",
  changed: "",
  how: "made",
  moment: "m1",
});

function page(queries: QueryClient, folder: number, entries: ReturnType<typeof node>[], at?: string) {
  const of = key("entries", folder, at, "", "");
  queries.setQueryData(of, { pages: [{ entries }], pageParams: [undefined] });
  return of;
}

const stale = (queries: QueryClient, of: readonly unknown[]) =>
  queries.getQueryState(of)?.isInvalidated ?? false;

const changed = (what: string, id: number, parent?: number, from?: number) => [
  { root: 1, from, change: { what: what as "changed", moment: "m2", node: node(id, parent) } },
];

test("a change makes stale the folder it is in, the one it came from, and no other", () => {
  const queries = new QueryClient();
  const [here, before, other] = [
    page(queries, 10, []),
    page(queries, 11, [node(5, 11)]),
    page(queries, 12, []),
  ];
  touch(queries, changed("changed", 5, 10, 11));
  expect([stale(queries, here), stale(queries, before), stale(queries, other)]).toEqual([true, true, false]);
});

test("something removed makes stale where it is shown, though its folder is not told", () => {
  const queries = new QueryClient();
  const shown = page(queries, 10, [node(5, 10)]);
  touch(queries, changed("removed", 5));
  expect(stale(queries, shown)).toBe(true);
});

test("the past does not change, and sums of folders in sight do", () => {
  const queries = new QueryClient();
  const past = page(queries, 10, [node(5, 10)], "m1");
  const above = page(queries, 1, [node(10, 1, "folder")]);
  touch(queries, changed("changed", 5, 10));
  expect(stale(queries, past)).toBe(false);
  expect(stale(queries, above)).toBe(true);
});

test("a file's history is stale when it changed, another's is not", () => {
  const queries = new QueryClient();
  const [its, others] = [key("history", 5, "m1"), key("history", 6, "m1")];
  queries.setQueryData(its, {});
  queries.setQueryData(others, {});
  touch(queries, changed("changed", 5, 10));
  expect([stale(queries, its), stale(queries, others)]).toEqual([true, false]);
});
