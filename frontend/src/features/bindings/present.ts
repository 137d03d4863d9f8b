import { count } from "../../lib/numbers";
import type { Lane, LaneName } from "./queries";

/** An address and port as one writes them; every one of either is a star. */
export function laneTitle(lane: Lane): string {
  const host = lane.address.includes(":") ? `[${lane.address}]` : lane.address;
  return `${host}:${lane.port ?? "*"}`;
}

/** What stands at the head of a lane, in words. */
export function laneWords(lane: Lane): string {
  if (!lane.heard_by) return "nobody listens";
  if (!lane.sites) return `${lane.heard_by} listens, no site is bound`;
  return `${lane.heard_by} listens${lane.sealed ? ", sealed" : ""}`;
}

/** The address that is asked for by a typed name, with a port or without. */
export function questionUrl(typed: string): string | null {
  const text = typed.trim();
  if (!text) return null;
  if (/^https?:\/\//i.test(text)) return text;
  return `${text.endsWith(":443") ? "https" : "http"}://${text.replace(/:(80|443)$/, "")}/`;
}

/** Whether a visitor who asks for this address comes to the lane. */
export function takesLane(lane: Lane, url: string, to: string | null): boolean {
  let asked: URL;
  try {
    asked = new URL(url);
  } catch {
    return false;
  }
  const port = Number(asked.port || (asked.protocol === "https:" ? 443 : 80));
  if (lane.port !== null && lane.port !== port) return false;
  return lane.address === "*" || lane.address === to;
}

/** Of the lanes that a visitor may come to, the one with the more specific address. */
export function laneOf(lanes: Lane[], url: string, to: string | null): Lane | undefined {
  const fit = lanes.filter((lane) => takesLane(lane, url, to));
  return fit.find((lane) => lane.address !== "*") ?? fit[0];
}

export interface Berth {
  site: string;
  names: LaneName[];
}

/** The names of a lane by the site that claims them, in the order in which they come. */
export function berths(names: LaneName[]): Berth[] {
  const found = new Map<string, Berth>();
  for (const name of names) {
    // Two sites of one name are two berths.
    const key = `${name.site} ${name.declared_at.replace(/:\d+$/, "")}`;
    const berth = found.get(key);
    if (berth) berth.names.push(name);
    else found.set(key, { site: name.site, names: [name] });
  }
  return [...found.values()];
}

/** How many sites are folders of one block. */
export function folders(many: number): string {
  return many === 1 ? "1 folder" : `${count(many)} folders`;
}

/** A further name of a site, without what it shares with the first. */
export function shortly(name: string, first: string): string {
  return name.endsWith(`.${first}`) ? name.slice(0, -first.length - 1) : name;
}
