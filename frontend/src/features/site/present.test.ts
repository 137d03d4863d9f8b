import { expect, test } from "vitest";
import { marked } from "./present";

test("a line is told apart, and nothing of it is lost", () => {
  for (const line of [
    "  ServerName a.test",
    "# a note",
    "}",
    "",
    "<VirtualHost *:80>",
    "listen 80;",
  ]) {
    expect(
      marked(line)
        .map((word) => word.text)
        .join(""),
    ).toBe(line);
  }
  expect(marked("  root /srv/a;").map((word) => word.role)).toEqual(["rest", "name", "rest"]);
  expect(marked("# x").map((word) => word.role)).toEqual(["note"]);
  expect(marked("<VirtualHost *:80>")[0]?.text).toBe("<VirtualHost");
});
