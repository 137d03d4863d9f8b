import type { Schemas } from "../../api/client";
import { plural } from "../../lib/text";

type End = Schemas["SealEnd"];

const DAY = 86_400;
// Most certificates are issued for no longer than this; one that ends in years is drawn to the edge.
const MOST_DAYS = 180;

export const STATE_TONES: Record<string, string> = {
  over: "text-blocked",
  "not-yet": "text-blocked",
  soon: "text-unsure",
  "in-time": "text-faint",
};

/** Where the axis ends: at the last end, within bounds. */
export function horizon(ends: readonly End[], now: number): number {
  const last = Math.max(...ends.map((end) => end.ends), now + 30 * DAY);
  return Math.min(last, now + MOST_DAYS * DAY);
}

/** How long is left, in words. */
export function left(end: End, now: number): string {
  if (end.begins > now) return `begins in ${plural(Math.ceil((end.begins - now) / DAY), "day")}`;
  const days = Math.floor((end.ends - now) / DAY);
  if (days < 0) return `over for ${plural(-days, "day")}`;
  return days === 0 ? "today" : `in ${plural(days, "day")}`;
}
