import type { Group, Site } from "./queries";

export type Grouping = "binding" | "owner" | "volume" | "kind";

export interface Shoal {
  title: string;
  sites: Site[];
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

/** Part of a group, as it is drawn in one piece. first: the group begins with it. */
export interface Strip {
  shoal: Shoal;
  sites: Site[];
  first: boolean;
}

const IN_STRIP = 48;

/** Groups in pieces that are drawn as they come into sight. */
export function inStrips(groups: Shoal[]): Strip[] {
  return groups.flatMap((shoal) => {
    const strips: Strip[] = [];
    for (let at = 0; at < shoal.sites.length; at += IN_STRIP) {
      strips.push({ shoal, sites: shoal.sites.slice(at, at + IN_STRIP), first: at === 0 });
    }
    return strips;
  });
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
  return `/follow?${new URLSearchParams({ url: site.url, to: site.to })}`;
}
