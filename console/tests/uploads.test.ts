import { afterEach, beforeEach, expect, test, vi } from "vitest";

vi.stubGlobal("window", { addEventListener: () => {} });

const lines = { broken: 0, refused: undefined as undefined | [string, number] };
const there = new Map<string, { bytes: string; modified: string }>();

vi.mock("../src/lib/api", async (original) => {
  const real = await original<typeof import("../src/lib/api")>();
  const api = {
    uploads: async () => ({ uploads: [] }),
    entries: async () => ({
      entries: [...there].map(([name, { bytes, modified }], n) => ({
        id: n + 10,
        name,
        kind: "file",
        size: bytes.length,
        modified,
        blake3: `hash of ${bytes}`,
      })),
    }),
  };
  const sendFile = async (_: number, name: string, file: File, replace: boolean) => {
    if (lines.broken > 0) {
      lines.broken -= 1;
      throw real.Refusal.line();
    }
    if (lines.refused) throw new real.Refusal("No.", lines.refused[0], "", lines.refused[1]);
    if (there.has(name) && !replace) throw new real.Refusal("Taken.", "changed_meanwhile", "", 412);
    there.set(name, { bytes: await file.text(), modified: new Date(file.lastModified).toISOString() });
  };
  return { ...real, api: { ...real.api, ...api }, sendFile };
});
vi.mock("../src/lib/hash", () => ({ hashOf: async (file: File) => `hash of ${await file.text()}` }));

const { uploads, unlike } = await import("../src/lib/uploads");

const file = (name: string, text: string) => ({
  file: new File([text], name, { lastModified: 1_700_000_000_000 }),
  way: [],
});

async function settled() {
  for (let n = 0; n < 200; n += 1) {
    await vi.advanceTimersByTimeAsync(100);
    if (!uploads.snapshot().busy) return;
  }
}

beforeEach(() => {
  vi.useFakeTimers();
  there.clear();
  Object.assign(lines, { broken: 0, refused: undefined });
});
afterEach(async () => {
  uploads.stopAll();
  await vi.advanceTimersByTimeAsync(5_000);
  uploads.clear();
  await vi.advanceTimersByTimeAsync(5_000);
  vi.useRealTimers();
});

/** All that was given is told: nothing is left out of the sums. */
function sums() {
  const s = uploads.snapshot();
  const skipped = s.all.filter((one) => one.state === "skipped").length;
  expect(s.done + s.same + s.failed + s.asking.length + skipped).toBe(s.all.length);
  return { done: s.done, same: s.same, failed: s.failed, asks: s.asking.length, skipped };
}

test("everything arrives, and the same again sends nothing", async () => {
  uploads.add(1, [file("a", "one"), file("b", "two"), file("c", "three")]);
  await settled();
  expect(sums()).toEqual({ done: 3, same: 0, failed: 0, asks: 0, skipped: 0 });
  uploads.clear();
  uploads.add(1, [file("a", "one"), file("b", "other bytes")]);
  await settled();
  expect(sums()).toEqual({ done: 0, same: 1, failed: 0, asks: 1, skipped: 0 });
});

test("a line that breaks and comes back is waited for, and nobody is asked about their own file", async () => {
  lines.broken = 5;
  uploads.add(1, [file("a", "one"), file("b", "two")]);
  await settled();
  expect(sums()).toEqual({ done: 2, same: 0, failed: 0, asks: 0, skipped: 0 });
  expect(there.get("a")?.bytes).toBe("one");
});

test("one answer decides for all that came together", async () => {
  there.set("a", { bytes: "old", modified: "2020-01-01T00:00:00Z" });
  there.set("b", { bytes: "old", modified: "2020-01-01T00:00:00Z" });
  uploads.add(1, [file("a", "new"), file("b", "new"), file("c", "new")]);
  await settled();
  expect(sums()).toEqual({ done: 1, same: 0, failed: 0, asks: 2, skipped: 0 });
  uploads.decide(uploads.snapshot().asking[0]!.batch, "keep both");
  await settled();
  expect([...there.keys()].toSorted()).toEqual(["a", "a (2)", "b", "b (2)", "c"]);
  expect(there.get("a")?.bytes).toBe("old");
});

test("what is refused says why, and can be tried again", async () => {
  lines.refused = ["quota_full", 507];
  uploads.add(1, [file("a", "one")]);
  await settled();
  expect(sums()).toEqual({ done: 0, same: 0, failed: 1, asks: 0, skipped: 0 });
  expect(uploads.snapshot().all[0]!.why).toBe("No.");
  lines.refused = undefined;
  uploads.retry([uploads.snapshot().all[0]!.id]);
  await settled();
  expect(sums().done).toBe(1);
});

test("numbered names go before the ending", () => {
  const taken = new Set(["a.txt", "a (2).txt", ".hidden"]);
  expect(unlike(taken, "a.txt")).toBe("a (3).txt");
  expect(unlike(taken, ".hidden")).toBe(".hidden (2)");
  expect(unlike(taken, "plain")).toBe("plain (2)");
});
