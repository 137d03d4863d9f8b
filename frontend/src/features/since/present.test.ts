import { expect, test } from "vitest";
import { counted, withWords } from "./present";
import type { Change } from "./queries";

const change = (what: string, subject: string, after = ""): Change => ({
  what,
  subject,
  aspect: "mode",
  before: "0755",
  after,
  within: 0,
});

test("every word must be there, in any place of a change", () => {
  const all = [change("changed", "/home/ines", "0700"), change("new", "/home/otto", "0700")];
  expect(withWords(all, "ines 0700")).toEqual([all[0]]);
  expect(withWords(all, "0700 NEW")).toEqual([all[1]]);
  expect(withWords(all, " ")).toEqual(all);
});

test("what is not there is not counted", () => {
  expect(counted([change("new", "a"), change("new", "b"), change("gone", "c")])).toBe(
    "2 new, 1 gone",
  );
  expect(counted([])).toBe("");
});
