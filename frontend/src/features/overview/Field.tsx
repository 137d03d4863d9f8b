import { memo } from "react";
import { Link } from "react-router";
import { IMPACT_WORDS, ImpactMark } from "./ImpactMark";
import { Mark, STATE_WORDS } from "./Mark";
import { BEHIND, followLink, type Grouping, shoals } from "./present";
import type { Impact, Site } from "./queries";

// With more sites than this, only those in trouble carry their name.
const MOST_NAMED = 160;
// More groups than this stand beside each other.
const MOST_ACROSS = 6;

/** Every site as a mark, in groups. */
export const Field = memo(function Field({ sites, by }: { sites: Site[]; by: Grouping }) {
  const named = sites.length <= MOST_NAMED;
  const groups = shoals(sites, by);
  const many = groups.length > MOST_ACROSS;
  if (!sites.length) return <p className="py-8 text-faint">No site has these words.</p>;
  return (
    <div
      className={
        many ? "grid grid-cols-[repeat(auto-fill,minmax(17rem,1fr))] gap-x-8 gap-y-4" : "space-y-5"
      }
    >
      {groups.map((shoal) => (
        <section key={shoal.title} aria-label={shoal.title}>
          <h2 className="mb-1.5 flex items-baseline gap-2 border-b border-line">
            <span className={by === "kind" ? "font-medium" : "mono font-semibold"}>
              {shoal.title}
            </span>
            <span className="text-sm text-faint">{shoal.sites.length}</span>
          </h2>
          <ul className="flex flex-wrap items-center gap-x-1 gap-y-1">
            {shoal.sites.map((site) => (
              <li key={site.id}>
                <SiteMark site={site} named={named} />
              </li>
            ))}
          </ul>
        </section>
      ))}
    </div>
  );
});

function SiteMark({ site, named }: { site: Site; named: boolean }) {
  const fine = site.state === "ok" && !site.impact;
  const worst = site.impact ? `, ${IMPACT_WORDS[site.impact as Impact]}` : "";
  const behind = site.behind ? `, ${BEHIND}` : "";
  const label = `${site.name}: ${STATE_WORDS[site.state]}${worst}${behind}${fine ? "" : `. ${site.reason}`}`;
  return (
    <Link
      to={followLink(site)}
      aria-label={label}
      title={label}
      className={`flex items-center gap-1 p-1 hover:bg-shoal ${fine ? "" : "border border-line bg-sheet"} ${site.behind ? "border-r-4 border-r-blocked" : ""} ${named || !fine ? "pr-2" : ""}`}
    >
      {site.impact ? (
        <ImpactMark impact={site.impact as Impact} size={site.personal ? 16 : 24} />
      ) : (
        <Mark state={site.state} personal={Boolean(site.personal)} />
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
