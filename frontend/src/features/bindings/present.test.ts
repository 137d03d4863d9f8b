import { expect, test } from "vitest";
import { berths, laneOf, laneTitle, laneWords, questionUrl, shortly } from "./present";
import type { Lane, LaneName } from "./queries";

const lane = (address: string, port: number | null, over: Partial<Lane> = {}): Lane => ({
  address,
  port,
  engine: "httpd",
  heard_by: "apache2",
  sealed: false,
  standing: "a.example",
  standing_at: "/etc/x:1",
  marked: false,
  sites: 1,
  names: [],
  nameless: [],
  crossed: 0,
  by_pattern: [],
  ...over,
});

test("a lane is called by its address and port", () => {
  expect([lane("*", 80), lane("2001:db8::1", 443), lane("192.0.2.1", null)].map(laneTitle)).toEqual(
    ["*:80", "[2001:db8::1]:443", "192.0.2.1:*"],
  );
  expect(laneWords(lane("*", 80, { heard_by: null }))).toBe("nobody listens");
  expect(laneWords(lane("*", 80, { sites: 0 }))).toContain("no site is bound");
});

test("a typed name becomes the address that is asked for", () => {
  expect(questionUrl(" choir.example ")).toBe("http://choir.example/");
  expect(questionUrl("choir.example:8088")).toBe("http://choir.example:8088/");
  expect(questionUrl("choir.example:443")).toBe("https://choir.example/");
  expect(questionUrl("")).toBeNull();
});

test("a visitor comes to the lane of the more specific address", () => {
  const lanes = [lane("*", 80), lane("192.0.2.11", 80), lane("*", 443)];
  expect(laneOf(lanes, "http://a.example/", "192.0.2.11")).toBe(lanes[1]);
  expect(laneOf(lanes, "http://a.example/", "192.0.2.10")).toBe(lanes[0]);
  expect(laneOf(lanes, "https://a.example/", "192.0.2.10")).toBe(lanes[2]);
  expect(laneOf(lanes, "http://a.example:9/", null)).toBeUndefined();
});

test("the names of one site stand together, and are told shortly", () => {
  const name = (text: string, site: string): LaneName => ({
    name: text,
    site,
    number: 0,
    in_folder: false,
    declared_at: `/etc/${site}:1`,
    exact: true,
    wins: true,
    winner: null,
  });
  const found = berths([name("a.test", "a"), name("b.test", "b"), name("www.a.test", "a")]);
  expect(found.map((berth) => berth.names.map((each) => each.name))).toEqual([
    ["a.test", "www.a.test"],
    ["b.test"],
  ]);
  expect([shortly("www.a.test", "a.test"), shortly("c.test", "a.test")]).toEqual(["www", "c.test"]);
});
