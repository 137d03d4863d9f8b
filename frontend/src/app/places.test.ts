import { expect, test } from "vitest";
import { EVERYWHERE, placesFor } from "./places";

const names = (typed: string) => placesFor(typed).map((place) => place.name);

test("places and actions are found by how they begin, then by their words", () => {
  expect(names("")).toHaveLength(EVERYWHERE.length);
  expect(names("lo")).toEqual(["Logs", "Load a survey"]);
  expect(names("new")).toEqual(["A new site"]);
  expect(names("  WHO ")[0]).toBe("Who may");
  expect(names("ledger")).toEqual(["Changes"]);
  expect(names("zzz")).toEqual([]);
});
