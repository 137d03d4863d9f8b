import { expect, test } from "vitest";
import { ago, cut, cutWords, moment, plural } from "./text";

test("a moment is told in the largest unit that fits", () => {
  const at = (seconds: number) => ago(0, seconds * 1000);
  expect([at(10), at(400), at(7200), at(86_400 * 9)]).toEqual([
    "just now",
    "7 min ago",
    "2 h ago",
    "9 days ago",
  ]);
});

test("times carry their zone, sizes their unit, counts their noun", () => {
  expect(moment("2031-04-15T11:12:30+02:00")).toBe("2031-04-15 09:12 UTC");
  expect([plural(1, "site"), plural(2, "site")]).toEqual(["1 site", "2 sites"]);
});

test("long words are cut in the middle, and others left alone", () => {
  expect(cut("short")).toBe("short");
  expect(cut("a".repeat(40) + "b".repeat(40), 21)).toBe(`${"a".repeat(10)}…${"b".repeat(10)}`);
  expect(cutWords(`in ${"x".repeat(100)} here`, 21)).toBe(
    `in ${"x".repeat(10)}…${"x".repeat(10)} here`,
  );
});
