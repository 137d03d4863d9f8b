import { cut } from "../../lib/text";
import type { Group, Site } from "./queries";

export type Grouping = "binding" | "owner" | "volume" | "kind";

export interface Shoal {
  title: string;
  sites: Site[];
  /** How many more belong to it, which are all alike and not drawn. */
  left?: number;
}

// Of a group, so many sites that are well are drawn without being asked for.
const ALIKE = 40;
const BUSIEST = 10;

const WORST = ["outage", "exposure", "clash", "drift", "upkeep"];

/** Where a site stands among others: the worst first, those that are well last. */
function badness(site: Site): number {
  const at = WORST.indexOf(site.impact ?? "");
  return at >= 0 ? at : site.state === "ok" ? WORST.length + 1 : WORST.length;
}

/** What differs, of groups of thousands: what is in trouble and what is most asked for. Groups of
 * which nothing is in trouble are summed up as one.
 */
export function summed(groups: Shoal[]): { groups: Shoal[]; well: Shoal[] } {
  const odd: Shoal[] = [];
  const well: Shoal[] = [];
  for (const group of groups) {
    const fine = group.sites.filter(isFine);
    if (fine.length <= ALIKE && fine.length < group.sites.length) odd.push(group);
    else if (fine.length === group.sites.length && groups.length > 1) well.push(group);
    else {
      const busiest = fine
        .filter((site) => site.requests_a_day)
        .sort((a, b) => (b.requests_a_day ?? 0) - (a.requests_a_day ?? 0))
        .slice(0, BUSIEST);
      const shown = new Set(busiest);
      const sites = group.sites
        .filter((site) => !isFine(site) || shown.has(site))
        .sort((a, b) => badness(a) - badness(b));
      odd.push({ ...group, sites, left: fine.length - busiest.length });
    }
  }
  return { groups: odd, well };
}

const TITLES: Record<Grouping, (site: Site) => string> = {
  binding: (site) => (site.personal ? "personal sites" : site.binding || "everywhere"),
  owner: (site) => site.owner ?? "root not there",
  volume: (site) => site.volume ?? "volume not known",
  kind: (site) => (site.personal ? "personal sites" : "sites"),
};

/** Sites in groups; the group with most in trouble first, then the largest. */
export function shoals(sites: Site[], by: Grouping): Shoal[] {
  const groups = new Map<string, Site[]>();
  for (const site of sites) {
    const title = TITLES[by](site);
    const group = groups.get(title);
    if (group) group.push(site);
    else groups.set(title, [site]);
  }
  const found = [...groups].map(([title, members]) => ({ title, sites: members }));
  return found.sort(
    (a, b) =>
      b.sites.length - a.sites.length || trouble(b) - trouble(a) || a.title.localeCompare(b.title),
  );
}

// A field of thousands, in pixels: marks stand on a grid, so that nothing is measured.
export const CELL = 30;
export const PITCH = CELL + 4;
// Above the marks of a group.
const TITLE = 44;
const ROWS = 6;
// A character of a name, and what stands beside the name.
const CHARACTER = 8;
const BESIDE = 52;

/** Rows of a group that are drawn in one piece. first: the group begins with it. height: pixels. */
export interface Strip {
  shoal: Shoal;
  sites: Site[];
  first: boolean;
  height: number;
}

/** Groups in pieces that are drawn as they come into sight, each row `across` cells wide. */
export function inStrips(groups: Shoal[], across: number): Strip[] {
  return groups.flatMap((shoal) => {
    const strips: Strip[] = [];
    let begun = 0;
    let row = shoal.sites.length ? 1 : 0;
    let taken = 0;
    const put = (end: number) => {
      const first = begun === 0;
      const height = row * PITCH + (first ? TITLE : 0);
      strips.push({ shoal, sites: shoal.sites.slice(begun, end), first, height });
      begun = end;
      row = 1;
      taken = 0;
    };
    shoal.sites.forEach((site, at) => {
      const cells = cellsOf(site, across);
      if (taken + cells > across) {
        if (row === ROWS) put(at);
        else {
          row += 1;
          taken = 0;
        }
      }
      taken += cells;
    });
    put(shoal.sites.length);
    return strips;
  });
}

/** How many cells of a row a mark takes; those in trouble carry their name. */
export function cellsOf(site: Site, across: number): number {
  if (isFine(site)) return 1;
  const width = BESIDE + CHARACTER * shownName(site.name).length;
  return Math.min(across, Math.ceil(width / PITCH));
}

export function isFine(site: Site): boolean {
  return site.state === "ok" && !site.impact;
}

/** A name as it stands beside a mark. */
export function shownName(name: string): string {
  return cut(name, 60);
}

function trouble(shoal: Shoal): number {
  return shoal.sites.filter((site) => site.state === "blocked").length;
}

/** What finds the sites behind the line at which an engine stops reading. */
export const BEHIND = "behind the break";

/** Sites that hold every word, in name, owner, binding, root or reason. */
export function matching(sites: Site[], words: string): Site[] {
  const wanted = words.toLowerCase().split(/\s+/).filter(Boolean);
  if (!wanted.length) return sites;
  return sites.filter((site) => {
    const behind = site.behind ? BEHIND : "";
    const { name, owner, binding, root, volume, reason, state } = site;
    const text = [name, owner, binding, root, volume, reason, state, behind]
      .join(" ")
      .toLowerCase();
    return wanted.every((word) => text.includes(word));
  });
}

/** Groups of which a finding holds every word, in its title, id or sites. */
export function matchingGroups(groups: Group[], words: string): Group[] {
  const wanted = words.toLowerCase().split(/\s+/).filter(Boolean);
  if (!wanted.length) return groups;
  return groups.flatMap((group) => {
    const findings = group.findings.filter((finding) => {
      const text = [finding.title, finding.id, finding.impact, ...finding.sites]
        .join(" ")
        .toLowerCase();
      return wanted.every((word) => text.includes(word));
    });
    return findings.length ? [{ ...group, findings, count: findings.length }] : [];
  });
}

/** The address of a site's passage. */
export function followLink(site: Site): string {
  return `/follow?url=${encodeURIComponent(site.url)}&to=${encodeURIComponent(site.to)}`;
}

// Its findings share nothing but their kind.
const SEVERAL = "several causes";

/** What a group is about, and then what is wrong with it. */
export function heading(group: Group): string {
  if (!group.about || group.about === SEVERAL) return group.title;
  return `${group.about}: ${group.title.charAt(0).toLowerCase()}${group.title.slice(1)}`;
}
