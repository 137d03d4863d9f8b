import { expect, test } from "vitest";
import { causes, causeWords, followLink, matching, shoals } from "./present";
import type { Site } from "./queries";

const site = (name: string, over: Partial<Site> = {}): Site => ({
  id: 1,
  engine: "httpd",
  name,
  declared_at: "/etc/x:1",
  binding: "*:80",
  root: `/srv/sites/${name}`,
  owner: "ines",
  url: `http://${name}/`,
  to: "192.0.2.10",
  state: "ok",
  status: 200,
  gate: "serve",
  reason: "",
  obstacles: 0,
  ...over,
});

const blocked = (name: string, gate: string) => site(name, { state: "blocked", gate });

test("sites are grouped, the largest group first", () => {
  const sites = [
    site("a", { owner: "otto" }),
    site("b"),
    site("c"),
    site("~d", { personal: true }),
  ];
  expect(shoals(sites, "owner").map((group) => [group.title, group.sites.length])).toEqual([
    ["ines", 3],
    ["otto", 1],
  ]);
  expect(shoals(sites, "binding").map((group) => group.title)).toEqual(["*:80", "personal sites"]);
});

test("every word must be found, wherever it stands", () => {
  const sites = [site("choir.example"), site("ferry.example", { owner: "otto" })];
  expect(matching(sites, "EXAMPLE otto").map((each) => each.name)).toEqual(["ferry.example"]);
  expect(matching(sites, " ")).toHaveLength(2);
});

test("causes stand in the order in which one would mend them", () => {
  const sites = [
    site("fine"),
    site("doubt", { state: "unsure", gate: "rule" }),
    blocked("a", "rule"),
    blocked("b", "ladder"),
    blocked("c", "ladder"),
  ];
  expect(causes(sites).map((cause) => [causeWords(cause), cause.sites.length])).toEqual([
    ["closed on the disk", 2],
    ["closed by a rule", 1],
    ["not sure yet", 1],
  ]);
});

test("a mark leads to the site's own passage", () => {
  expect(followLink(site("a.example"))).toBe("/follow?url=http%3A%2F%2Fa.example%2F&to=192.0.2.10");
});
