import { useVirtualizer } from "@tanstack/react-virtual";
import { memo, useMemo, useRef } from "react";
import { Link } from "react-router";
import { plural } from "../../lib/text";
import { IMPACT_WORDS, ImpactMark } from "./ImpactMark";
import { Mark, STATE_WORDS } from "./Mark";
import { BEHIND, followLink, type Grouping, inStrips, type Shoal, shoals } from "./present";
import type { Impact, Site } from "./queries";

// With more sites than this, only those in trouble carry their name.
const MOST_NAMED = 200;
// More groups than this stand beside each other.
const MOST_ACROSS = 6;

/** Every site as a mark, in groups. */
export const Field = memo(function Field({ sites, by }: { sites: Site[]; by: Grouping }) {
  const groups = useMemo(() => shoals(sites, by), [sites, by]);
  const frame = "min-h-0 flex-1 overflow-auto px-5 pb-6";
  if (!sites.length) {
    return (
      <div className={frame}>
        <p className="py-8 text-faint">No site has these words.</p>
      </div>
    );
  }
  if (sites.length > MOST_NAMED) return <Wide groups={groups} by={by} frame={frame} />;
  const across =
    groups.length > MOST_ACROSS
      ? "grid grid-cols-[repeat(auto-fill,minmax(17rem,1fr))] gap-x-8 gap-y-4"
      : "space-y-5";
  return (
    <div className={frame}>
      <div className={across}>
        {groups.map((shoal) => (
          <section key={shoal.title} aria-label={shoal.title}>
            <Title shoal={shoal} by={by} />
            <Marks sites={shoal.sites} named />
          </section>
        ))}
      </div>
    </div>
  );
});

interface WideProps {
  groups: Shoal[];
  by: Grouping;
  frame: string;
}

/** Thousands of marks: only what is in sight is drawn. */
function Wide({ groups, by, frame }: WideProps) {
  const scroller = useRef<HTMLDivElement>(null);
  const strips = useMemo(() => inStrips(groups), [groups]);
  const drawn = useVirtualizer({
    count: strips.length,
    getScrollElement: () => scroller.current,
    estimateSize: (at) => (strips[at]?.first ? 80 : 40),
    overscan: 6,
  });
  return (
    <div ref={scroller} className={frame}>
      <div className="relative" style={{ height: drawn.getTotalSize() }}>
        {drawn.getVirtualItems().map((item) => {
          const strip = strips[item.index];
          if (!strip) return null;
          return (
            <div
              key={item.key}
              data-index={item.index}
              ref={drawn.measureElement}
              className={`absolute inset-x-0 ${strip.first ? "pt-3" : ""}`}
              style={{ transform: `translateY(${item.start}px)` }}
            >
              <section aria-label={strip.shoal.title}>
                {strip.first && <Title shoal={strip.shoal} by={by} />}
                <Marks sites={strip.sites} named={false} />
              </section>
            </div>
          );
        })}
      </div>
    </div>
  );
}

function Title({ shoal, by }: { shoal: Shoal; by: Grouping }) {
  return (
    <h2 className="mb-1.5 flex items-baseline gap-2 border-b border-line">
      <span className={by === "kind" ? "font-medium" : "mono font-semibold"}>{shoal.title}</span>
      <span className="text-sm text-faint">{shoal.sites.length}</span>
    </h2>
  );
}

const Marks = memo(function Marks({ sites, named }: { sites: Site[]; named: boolean }) {
  return (
    <ul className="flex flex-wrap items-center gap-x-1 gap-y-1 pb-1">
      {sites.map((site) => (
        <li key={site.id}>
          <SiteMark site={site} named={named} />
        </li>
      ))}
    </ul>
  );
});

/** By traffic, as far as logs tell it: each tenfold more requests a day is a step. */
function markSize(site: Site): number {
  const usual = site.personal ? 16 : 22;
  if (site.requests_a_day == null) return usual;
  return Math.min(34, (site.personal ? 12 : 14) + 5 * Math.log10(1 + site.requests_a_day));
}

function SiteMark({ site, named }: { site: Site; named: boolean }) {
  const fine = site.state === "ok" && !site.impact;
  const worst = site.impact ? `, ${IMPACT_WORDS[site.impact as Impact]}` : "";
  const behind = site.behind ? `, ${BEHIND}` : "";
  const asked = site.requests_a_day ? `, ${plural(site.requests_a_day, "request")} a day` : "";
  const label = `${site.name}: ${STATE_WORDS[site.state]}${worst}${behind}${asked}${fine ? "" : `. ${site.reason}`}`;
  return (
    <Link
      to={followLink(site)}
      aria-label={label}
      title={label}
      className={`flex items-center gap-1 p-1 hover:bg-shoal ${fine ? "" : "border border-line bg-sheet"} ${site.behind ? "border-r-4 border-r-blocked" : ""} ${named || !fine ? "pr-2" : ""}`}
    >
      {site.impact ? (
        <ImpactMark impact={site.impact as Impact} size={markSize(site)} />
      ) : (
        <Mark state={site.state} size={markSize(site)} />
      )}
      {(named || !fine) && (
        <span className={`mono leading-none ${fine ? "text-faint" : "font-semibold"}`}>
          {shortName(site.name)}
        </span>
      )}
    </Link>
  );
}

/** A name without what all share. */
function shortName(name: string): string {
  return name.replace(/\.(example|test)$/, "");
}
