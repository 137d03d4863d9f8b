import { beforeEach, expect, test } from "vitest";
import { recent, remember } from "./recent";

beforeEach(() => localStorage.clear());

test("what was followed last stands first, each once, and few of them", () => {
  for (let turn = 0; turn < 15; turn += 1)
    remember({ url: `http://s${turn % 11}.test/`, status: 200 });
  expect(recent().map((each) => each.url)).toEqual(
    [3, 2, 1, 0, 10, 9, 8, 7, 6, 5].map((number) => `http://s${number}.test/`),
  );
});

test.each(["{", "7", '[1, null, {"url": 3}]'])("%s is nothing that was followed", (text) => {
  localStorage.setItem("ecumen-followed", text);
  expect(recent()).toEqual([]);
});
