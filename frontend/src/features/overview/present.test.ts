import { expect, test } from "vitest";
import {
  cellsOf,
  followLink,
  heading,
  inStrips,
  matching,
  matchingGroups,
  PITCH,
  shoals,
  summed,
} from "./present";
import type { BriefFinding, Group, Site } from "./queries";

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
  const volumes = [site("a", { volume: "/home" }), site("b", { volume: "/srv" }), site("c")];
  expect(
    shoals(volumes, "volume")
      .map((group) => group.title)
      .sort(),
  ).toEqual(["/home", "/srv", "volume not known"].sort());
  expect(shoals(sites, "binding").map((group) => group.title)).toEqual(["*:80", "personal sites"]);
});

test("every word must be found, wherever it stands", () => {
  const sites = [site("choir.example"), site("ferry.example", { owner: "otto" })];
  expect(matching(sites, "EXAMPLE otto").map((each) => each.name)).toEqual(["ferry.example"]);
  expect(matching(sites, " ")).toHaveLength(2);
});

test("groups keep the findings that hold every word", () => {
  const brief = (title: string, sites: string[]): BriefFinding => ({
    key: title,
    id: "root.missing",
    impact: "outage",
    title,
    brief: sites.join(", "),
    sites,
    news: "still",
  });
  const group: Group = {
    group: "x",
    about: "/srv",
    id: "root.missing",
    impact: "outage",
    title: "gone",
    requests_a_day: null,
    count: 2,
    findings: [brief("one", ["a.example"]), brief("two", ["b.example"])],
  };
  const found = matchingGroups([group], "MISSING b.example");
  expect(found.map((each) => [each.count, each.findings.map((f) => f.title)])).toEqual([
    [1, ["two"]],
  ]);
  expect(matchingGroups([group], "nobody")).toEqual([]);
  expect(matchingGroups([group], " ")).toEqual([group]);
});

test("a mark leads to the site's own passage", () => {
  expect(followLink(site("a.example"))).toBe("/follow?url=http%3A%2F%2Fa.example%2F&to=192.0.2.10");
});

test("strips hold every site once, and no row more than it has room for", () => {
  const sites = Array.from({ length: 1000 }, (_, at) =>
    site(`${"n".repeat(at % 40)}${at}.example`, {
      state: at % 7 === 0 ? "blocked" : "ok",
      owner: at < 3 ? "otto" : "ines",
    }),
  );
  for (const across of [1, 3, 25]) {
    const strips = inStrips(shoals(sites, "owner"), across);
    const drawn = strips.flatMap((strip) => strip.sites.map((each) => each.name));
    expect(drawn.sort()).toEqual(sites.map((each) => each.name).sort());
    expect(strips.filter((strip) => strip.first).map((strip) => strip.shoal.title)).toEqual([
      "ines",
      "otto",
    ]);
    for (const { sites, first, height } of strips) {
      const cells = sites.reduce((sum, each) => sum + cellsOf(each, across), 0);
      const rows = Math.floor(height / PITCH) - (first ? 1 : 0);
      expect(cells).toBeLessThanOrEqual(rows * across);
      expect(rows).toBeLessThanOrEqual(6);
    }
  }
});

test("a group is headed by what it is about", () => {
  const group = { about: "/home", title: "The worker may not pass" } as Group;
  expect(heading(group)).toBe("/home: the worker may not pass");
  expect(heading({ ...group, about: "" })).toBe("The worker may not pass");
});

test("of thousands only what differs is drawn, and nothing of it is missing", () => {
  const fine = Array.from({ length: 3000 }, (_, at) =>
    site(`s${at}`, { requests_a_day: at % 100 ? null : at + 1, owner: at < 2900 ? "a" : "b" }),
  );
  const shut = site("shut", { state: "blocked", owner: "a" });
  const { groups, well } = summed(shoals([...fine, shut], "owner"));
  expect(well.map((group) => [group.title, group.sites.length])).toEqual([["b", 100]]);
  expect(groups.map((group) => [group.title, group.sites.length, group.left])).toEqual([
    ["a", 11, 2890],
  ]);
  expect(groups[0]?.sites).toContain(shut);
  expect(groups[0]?.sites.map((each) => each.requests_a_day ?? 0).sort((a, b) => b - a)[0]).toBe(
    2801,
  );
});
