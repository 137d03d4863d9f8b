import { expect, test } from "vitest";
import { destination, isAddress, isWord, placeOf } from "./address";

test.each([
  ["http://choir.example/", true],
  ["choir.example", true],
  ["choir.example/~ines/", true],
  ["quay:8080/x", true],
  ["choir", false],
  ["~ines", false],
  ["two words.x y", false],
])("%s is an address: %s", (text, is) => {
  expect(isAddress(text)).toBe(is);
});

test("an address starts a passage and keeps the vantage, a word looks for sites", () => {
  const params = new URLSearchParams({ from: "127.0.0.1" });
  expect(destination(" choir.example/a?b#c ", params)).toBe(
    "/follow?url=http%3A%2F%2Fchoir.example%2Fa%3Fb%23c&from=127.0.0.1",
  );
  expect(destination("choir", params)).toBe("/?q=choir");
  expect(destination("  ", params)).toBeNull();
});

test("a word is looked up, and leads to the account or to the site", () => {
  expect(
    ["ines", "choir.ex", "~ines", "choir.example/", "/srv", "two words", ""].map(isWord),
  ).toEqual([true, true, true, false, false, false, false]);
  expect(placeOf({ kind: "account", name: "ines" })).toBe("/users?account=ines");
  expect(placeOf({ kind: "site", name: "a.test", at: "/etc/a:1" })).toBe("/site?at=%2Fetc%2Fa%3A1");
});
