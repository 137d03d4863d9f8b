import type { Site, State } from "./queries";

export type Grouping = "binding" | "owner" | "kind";

export interface Shoal {
  title: string;
  sites: Site[];
}

const TITLES: Record<Grouping, (site: Site) => string> = {
  binding: (site) => (site.personal ? "personal sites" : site.binding || "everywhere"),
  owner: (site) => site.owner ?? "root not there",
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
    const text = [site.name, site.owner, site.binding, site.root, site.reason, site.state, behind]
      .join(" ")
      .toLowerCase();
    return wanted.every((word) => text.includes(word));
  });
}

export interface Cause {
  gate: string;
  state: State;
  sites: Site[];
}

const ORDER: State[] = ["blocked", "diverted", "unsure"];

/** What is wrong, by the gate at which it is: most sites first, what blocks before what does not. */
export function causes(sites: Site[]): Cause[] {
  const groups = new Map<string, Cause>();
  for (const site of sites) {
    if (site.state === "ok") continue;
    const key = `${site.state} ${site.gate}`;
    const cause = groups.get(key);
    if (cause) cause.sites.push(site);
    else groups.set(key, { gate: site.gate, state: site.state, sites: [site] });
  }
  return [...groups.values()].sort(
    (a, b) => ORDER.indexOf(a.state) - ORDER.indexOf(b.state) || b.sites.length - a.sites.length,
  );
}

const CAUSE_WORDS: Record<string, string> = {
  name: "the name does not lead here",
  door: "nothing listens there",
  seal: "stopped at the certificate",
  site: "another site answers",
  way: "the address leads nowhere",
  rule: "closed by a rule",
  ladder: "closed on the disk",
  context: "closed by the security policy",
  serve: "nothing there to show",
  record: "not recorded",
};

export function causeWords(cause: Cause): string {
  if (cause.state === "unsure") return "not sure yet";
  if (cause.state === "diverted" && cause.gate !== "site") return "sent on";
  return CAUSE_WORDS[cause.gate] ?? cause.gate;
}

/** The address of a site's passage. */
export function followLink(site: Site): string {
  return `/follow?${new URLSearchParams({ url: site.url, to: site.to })}`;
}
