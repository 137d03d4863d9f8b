import { expect, test } from "vitest";
import { decidingTriad } from "../../lib/ladder";
import { courses } from "../../lib/passage";
import {
  addressOf,
  foldedClaims,
  openGate,
  outcomeWords,
  parting,
  questionOf,
  tone,
} from "./present";
import type { Claim, Gate, Passage, Rung } from "./queries";

const gate = (name: string, verdict: Gate["verdict"]): Gate => ({
  gate: name,
  verdict,
  code: `${name}.x`,
  reason: "",
});

const passage = (over: Partial<Passage>): Passage => ({
  url: "http://choir.example/",
  decided: true,
  status: 200,
  site: null,
  file: null,
  content_type: null,
  location: null,
  upstream: null,
  log: null,
  summary: "",
  deciding_gate: "serve",
  gates: [gate("site", "clear"), gate("ladder", "clear"), gate("serve", "clear")],
  obstacles: [],
  unsure_because: [],
  ...over,
});

const rung = (by: string, acl: string[] = []): Rung => ({
  path: "/srv",
  name: "srv",
  real_path: "/srv",
  kind: "dir",
  mode: "0755",
  triads: ["rwx", "r-x", "r-x"],
  owner: "root",
  group: "root",
  acl,
  target: null,
  need: "x",
  allowed: true,
  by,
  line: "",
  words: "",
});

test("the course stops at the first obstacle and is only thought beyond it", () => {
  const obstacle = { gate: "ladder", code: "", status: 403, reason: "", mend: "", evidence: [] };
  expect(courses(passage({ obstacles: [obstacle] }))).toEqual(["sailed", "stopped", "beyond"]);
  expect(courses(passage({}))).toEqual(["sailed", "sailed", "sailed"]);
});

test("two passages part at the first gate with another verdict or another reason", () => {
  const shut = passage({
    gates: [gate("site", "clear"), gate("ladder", "blocked"), gate("serve", "clear")],
  });
  expect(parting(passage({}), shut)).toBe(1);
  expect(parting(passage({}), passage({}))).toBeNull();
  const other = passage({
    gates: [{ ...gate("site", "clear"), code: "site.only" }, gate("ladder", "blocked")],
  });
  expect(parting(passage({}), other)).toBe(0);
});

test("a question has an address of its own that leads back to it", () => {
  const question = { url: "http://a.example/?x=1&y", source: "127.0.0.1", to: "192.0.2.10" };
  const address = addressOf(question, "site");
  expect(questionOf(new URLSearchParams(address.slice(address.indexOf("?"))))).toEqual(question);
});

test("the deciding gate stands open until another is chosen", () => {
  expect(openGate(passage({}), null)?.gate).toBe("serve");
  expect(openGate(passage({}), "site")?.gate).toBe("site");
  expect(openGate(passage({}), "nonsense")?.gate).toBe("site");
});

test("sites that claim other names are folded around those that matter", () => {
  const claim = (outcome: string) => ({ outcome }) as Claim;
  const outcomes = ["other-name", "won", "other-name", "other-name", "matched-later", "other-name"];
  const runs = foldedClaims(outcomes.map(claim));
  expect(runs.map((run) => [run.first, run.claims.length])).toEqual([
    [0, 1],
    [1, 1],
    [2, 2],
    [4, 1],
    [5, 1],
  ]);
});

test("no answer, a refusal and doubt are told apart", () => {
  expect(outcomeWords(passage({ status: null }))).toBe("No answer");
  expect(outcomeWords(passage({ status: 403 }))).toBe("Refused");
  expect(outcomeWords(passage({ decided: false }))).toBe("Not sure");
  expect([
    tone(passage({})),
    tone(passage({ status: 301 })),
    tone(passage({ status: null })),
    tone(passage({ decided: false })),
  ]).toEqual(["clear", "diverted", "blocked", "unsure"]);
});

test("the triad that decided is marked, unless the ACL or nothing did", () => {
  expect(
    ["owner", "group", "other", "user", "root", ""].map((by) => decidingTriad(rung(by))),
  ).toEqual([0, 1, 2, null, null, null]);
  expect(decidingTriad(rung("group", ["user:ines:r-x"]))).toBeNull();
});

test("the address of the page is the question", () => {
  const params = new URLSearchParams("url=http://a.example/&from=127.0.0.1&gate=site");
  expect(questionOf(params)).toEqual({ url: "http://a.example/", source: "127.0.0.1" });
});
