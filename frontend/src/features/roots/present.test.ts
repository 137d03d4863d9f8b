import { expect, test } from "vitest";
import { around, hue, problemWords, tree } from "./present";
import type { Plot } from "./queries";

const plot = (path: string, depth: number): Plot => ({
  path,
  name: path,
  depth,
  roots: 1,
  closed: false,
  more: 0,
  root: null,
  worst: "",
  findings: [],
});

test("plots that come in order make a tree", () => {
  const found = tree([plot("/", 0), plot("/a", 1), plot("/a/x", 2), plot("/b", 1)]);
  expect(found).toHaveLength(1);
  expect(found[0]?.inner.map((each) => each.plot.path)).toEqual(["/a", "/b"]);
  expect(found[0]?.inner[0]?.inner.map((each) => each.plot.path)).toEqual(["/a/x"]);
});

test("an owner keeps its tint, and others mostly have another", () => {
  expect(hue("ines")).toBe(hue("ines"));
  expect(new Set(["ines", "otto", "mara", "bela", "juno"].map(hue)).size).toBe(5);
});

test("paths and problems in words", () => {
  expect([around("/srv/sites"), around("/srv"), around("/")]).toEqual(["/srv", "/", "/"]);
  expect([problemWords("missing"), problemWords("odd")]).toEqual(["not there", "odd"]);
});
