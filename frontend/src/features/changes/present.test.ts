import { describe, expect, it } from "vitest";
import { alike, isServed, moved } from "./present";

const side = (status: number | null) => ({
  decided: true,
  status,
  site: "choir.test",
  file: null,
  content_type: null,
  words: "",
});
describe("what a rehearsal found", () => {
  it("takes a page for served that is there or leads on", () => {
    expect([200, 301, 403, null].map((status) => isServed(side(status)))).toEqual([
      true,
      true,
      false,
      false,
    ]);
  });
});

describe("steps in another order", () => {
  it("moves one and keeps the others in theirs", () => {
    expect(moved(4, 3, 1)).toEqual([0, 3, 1, 2]);
    expect(moved(3, 0, 2)).toEqual([1, 2, 0]);
  });
});

describe("what gets worse", () => {
  it("is said yes to by its kind, and by its name where that is all", () => {
    const worse = [
      { name: "a1", words: "one list", kind: "index.listed" },
      { name: "choir.test", words: "pages close", kind: "choir.test" },
      { name: "b2", words: "another list", kind: "index.listed" },
    ];
    expect(alike(worse)).toEqual([
      { kind: "index.listed", words: "one list", names: ["a1", "b2"] },
      { kind: "choir.test", words: "choir.test: pages close", names: ["choir.test"] },
    ]);
  });
});
