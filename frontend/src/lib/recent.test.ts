import { beforeEach, expect, test } from "vitest";
import { recent, remember } from "./recent";

beforeEach(() => localStorage.clear());

test("what was followed last stands first, each once, and few of them", () => {
  for (let turn = 0; turn < 9; turn += 1)
    remember({ url: `http://s${turn % 7}.test/`, status: 200 });
  expect(recent().map((each) => each.url)).toEqual(
    [1, 0, 6, 5, 4, 3].map((number) => `http://s${number}.test/`),
  );
});

test.each(["{", "7", '[1, null, {"url": 3}]'])("%s is nothing that was followed", (text) => {
  localStorage.setItem("ecumen-followed", text);
  expect(recent()).toEqual([]);
});
