import { expect, test } from "vitest";
import { matrix, sortedBy, withWords } from "./present";
import type { Cell, User } from "./queries";

const user = (account: string, first: string, states: Record<string, string> = {}): User => ({
  account,
  uid: 1,
  home: `/home/${account}`,
  folder: `/home/${account}/public_html`,
  url: "",
  status: null,
  first,
  why: first ? `because of ${first}` : "",
  conditions: Object.entries(states).map(([name, state]) => ({ name, state, why: "" })),
});

test("accounts are found by name, reason, or that they answer", () => {
  const all = [user("ines", "home"), user("otto", "")];
  expect(withWords(all, "INES")).toEqual([all[0]]);
  expect(withWords(all, "because home")).toEqual([all[0]]);
  expect(withWords(all, "answers")).toEqual([all[1]]);
});

test("those that fail first at a condition come before those that fail there later", () => {
  const all = [
    user("a", "", { owner: "ok" }),
    user("b", "home", { owner: "fails" }),
    user("c", "owner", { owner: "fails" }),
    user("d", "", { owner: "unsure" }),
  ];
  expect(sortedBy(all, "owner").map((each) => each.account)).toEqual(["c", "b", "d", "a"]);
  expect(sortedBy(all, "")).toBe(all);
});

const cell = (owner: string, other: string, reads: number): Cell => ({
  owner,
  other,
  reads,
  writes: 0,
  worst: "/a",
  kind: "a key",
  how: "a group",
  worker: other === "www-data",
});

test("neighbours who can do the same are one row, those who are few come first", () => {
  const found = matrix([
    cell("ines", "a", 1),
    cell("ines", "b", 1),
    cell("ines", "c", 1),
    cell("ines", "www-data", 1),
    cell("ines", "otto", 2),
    cell("otto", "ines", 1),
  ]);
  expect(found.owners).toEqual(["ines", "otto"]);
  expect(found.others.map((row) => found.alike.get(row.name))).toEqual([
    ["www-data"],
    ["otto"],
    ["ines"],
    ["a", "b", "c"],
  ]);
});
