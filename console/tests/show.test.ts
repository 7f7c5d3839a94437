import { expect, test } from "vitest";
import { dayWords, endOfDay, readDay } from "../src/lib/days";
import { editable, lookOf } from "../src/lib/kinds";
import { pageAt, pageOf, placeOf, within } from "../src/lib/place";
import { count, countInWords, plain, size, span, when } from "../src/lib/show";

test("sizes have three digits, and no unit is reached by rounding", () => {
  expect([0, 1, 1023, 1024, 1536, 10_239, 1024 ** 2 - 1, 1024 ** 2, 1024 ** 4 * 5].map(size)).toEqual([
    "0 B",
    "1 B",
    "1023 B",
    "1.00 KiB",
    "1.50 KiB",
    "10.0 KiB",
    "1.00 MiB",
    "1.00 MiB",
    "5.00 TiB",
  ]);
  for (let n = 1; n < 2 ** 50; n = Math.floor(n * 1.37) + 1) {
    const [value = "", unit = ""] = size(n).split(" ");
    expect(Number(value), `${n} ${unit}`).toBeLessThan(1024);
    if (unit !== "B") expect(value.replace(".", "").length, size(n)).toBe(3);
  }
});

test("times near now are told in words", () => {
  const now = new Date(2026, 10, 30, 9, 30);
  const before = (minutes: number) => when(new Date(now.getTime() - minutes * 60_000).toISOString(), now);
  expect(before(0)).toBe("just now");
  expect(before(1)).toBe("1 minute ago");
  expect(before(59.9)).toBe("59 minutes ago");
  expect(before(61)).toBe("today, 08:29");
  expect(before(10 * 60)).toBe("yesterday, 23:30");
  expect(before(60 * 24 * 20)).toBe("10 Nov");
  expect(before(60 * 24 * 400)).toBe("26 Oct 2025");
  // A clock that is ahead of the service's does not make it "minus one minute ago".
  expect(before(-2)).toBe("today, 09:32");
});

test("counts, spans and names", () => {
  expect([count(0, "file"), count(1, "file"), count(1200, "file")]).toEqual([
    "0 files",
    "1 file",
    "1,200 files",
  ]);
  expect([countInWords(0, "thing"), countInWords(11, "thing")]).toEqual(["No things", "11 things"]);
  expect([3, 44, 100, 3600, 7200].map(span)).toEqual([
    "a few seconds",
    "about 40 seconds",
    "about 2 minutes",
    "about 60 minutes",
    "about 2 hours",
  ]);
  expect(plain("gnp.\u202eexe")).toBe("gnp.⟨U+202E⟩exe");
});

test("a page's address leads back to the place it was made of, whatever its names are", () => {
  for (const path of ["home:/", "Collections:/a/b", "Loan agreements:/50% off/#1?/ü&=+", "x:/a:b/c"]) {
    const address = pageOf(path);
    expect(address.startsWith("/shelf/")).toBe(true);
    expect(placeOf(address)).toBe(path);
    expect(address).not.toMatch(/[#?]/);
  }
  expect(pageOf("home:/a", "m1f")).toBe("/shelf/home/a?at=m1f");
  expect(within("home:/", "x")).toBe("home:/x");
  expect(pageAt("home:/a/b.txt", false, 7)).toBe("/shelf/home/a?thing=7");
});

test("days are read as they are written, and nothing else is taken for one", () => {
  for (const text of ["24 Dec 2026", "24.12.2026", "2026-12-24", " 24. december 2026 "]) {
    expect(readDay(text), text).toBe("2026-12-24");
  }
  for (const text of ["31 Feb 2026", "3/4/2026", "tomorrow", "24 Dec", "0.1.2026", ""]) {
    expect(readDay(text), text).toBeUndefined();
  }
  expect(dayWords(readDay("1 Jan 2027")!)).toBe("1 Jan 2027");
  expect(new Date(endOfDay("2026-12-24")).getTime()).toBe(new Date(2026, 11, 24, 23, 59, 59).getTime());
});

test("what a file is shows in its last ending", () => {
  expect(["a.PNG", "a.tar.gz", "readme", "b.md", ".csv"].map(lookOf)).toEqual([
    "image",
    "archive",
    "other",
    "markdown",
    "table",
  ]);
  expect(editable("a.txt", 2 * 1024 * 1024)).toBe(true);
  expect(editable("a.txt", 2 * 1024 * 1024 + 1)).toBe(false);
  expect(editable("a.png", 1)).toBe(false);
});
