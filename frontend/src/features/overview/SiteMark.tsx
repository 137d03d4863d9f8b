import { plural } from "../../lib/text";
import { IMPACT_WORDS, type Impact, ImpactMark } from "../../ui/ImpactMark";
import { Mark, ringStyle, STATE_WORDS } from "./Mark";
import { BEHIND, CELL, followLink, isFine, shownName } from "./present";
import type { Site } from "./queries";

/** A site as a mark with its name that leads to its passage; `useInnerLinks` follows it. */
export function SiteMark({ site }: { site: Site }) {
  const fine = isFine(site);
  const label = labelOf(site);
  return (
    <a
      href={followLink(site)}
      aria-label={label}
      title={label}
      className={`flex items-center gap-1 pr-2 pl-1 hover:bg-shoal ${fine ? "" : "border border-line bg-sheet"} ${site.behind ? "border-r-4 border-r-blocked" : ""}`}
      style={{ height: CELL }}
    >
      {site.impact ? (
        <ImpactMark impact={site.impact as Impact} size={markSize(site)} />
      ) : (
        <Mark state={site.state} size={markSize(site)} />
      )}
      <span className={`mono truncate ${fine ? "text-faint" : "font-semibold"}`}>
        {shownName(site.name)}
      </span>
    </a>
  );
}

/** One of thousands that are well: the same in a single element. */
export function FineMark({ site }: { site: Site }) {
  const label = labelOf(site);
  return (
    // biome-ignore lint/a11y/useAnchorContent: its label says all; text in thousands costs too much.
    <a
      href={followLink(site)}
      aria-label={label}
      title={label}
      className={`sounding grid place-items-center hover:bg-shoal ${site.behind ? "border-r-4 border-r-blocked" : ""}`}
      style={ringStyle(markSize(site))}
    />
  );
}

function labelOf(site: Site): string {
  const worst = site.impact ? `, ${IMPACT_WORDS[site.impact as Impact]}` : "";
  const behind = site.behind ? `, ${BEHIND}` : "";
  const asked = site.requests_a_day ? `, ${plural(site.requests_a_day, "request")} a day` : "";
  const why = isFine(site) ? "" : `. ${site.reason}`;
  return `${site.name}: ${STATE_WORDS[site.state]}${worst}${behind}${asked}${why}`;
}

/** By traffic, as far as logs tell it: each tenfold more requests a day is a step. */
function markSize(site: Site): number {
  if (site.requests_a_day == null) return site.personal ? 16 : 22;
  return Math.min(CELL, (site.personal ? 10 : 12) + 4 * Math.log10(1 + site.requests_a_day));
}
