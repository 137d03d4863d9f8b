import { expect, test } from "vitest";
import { pieces } from "./prose";

const literals = (text: string) => pieces(text).flatMap((each) => (each.literal ? each.piece : []));

test("what is read letter by letter is found, sentence marks left out", () => {
  expect(
    literals("The web server may not pass through /home/ines: it belongs to ines:ines, mode 0700."),
  ).toEqual(["/home/ines", "ines:ines", "0700"]);
  expect(literals("choir.example answers on *:80 for http://a.test/~ines/.")).toEqual([
    "choir.example",
    "*:80",
    "http://a.test/~ines/",
  ]);
  expect(literals("/ lies there; the link leads to ../old/index.html, which is gone.")).toEqual([
    "/",
    "../old/index.html",
  ]);
  expect(literals("Since 2031 it has mode 2750.")).toEqual(["2750"]);
  expect(literals("Plain HTTP: no certificate is asked for. It ends here.")).toEqual([]);
});

test("nothing of the text is lost", () => {
  const text = "One /a/b. Two 0644, three x:y; ~z!";
  expect(
    pieces(text)
      .map((each) => each.piece)
      .join(""),
  ).toBe(text);
});
