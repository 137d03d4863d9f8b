import { memo, useMemo, useRef } from "react";
import { useInnerLinks } from "../../lib/links";
import { count } from "../../lib/numbers";
import { plural } from "../../lib/text";
import { type Grouping, type Shoal, shoals, summed } from "./present";
import type { Site } from "./queries";
import { SiteMark } from "./SiteMark";
import { DrawAll, Title } from "./Title";
import { type PartProps, Wide } from "./Wide";

// With more sites than this, only those in trouble carry their name.
const MOST_NAMED = 200;
// More groups than this stand beside each other.
const MOST_ACROSS = 6;

interface Props {
  sites: Site[];
  by: Grouping;
  /** Every mark is wanted, also of thousands that are alike. */
  all: boolean;
}

/** Every site as a mark, in groups; of thousands those that differ. */
export const Field = memo(function Field({ sites, by, all }: Props) {
  const groups = useMemo(() => shoals(sites, by), [sites, by]);
  const differing = useMemo(() => summed(groups), [groups]);
  const frame = "min-h-0 flex-1 overflow-auto bg-paper px-5 pb-6";
  if (!sites.length) {
    return (
      <div className={frame}>
        <p className="py-8 text-faint">No site has these words.</p>
      </div>
    );
  }
  if (sites.length > MOST_NAMED) {
    const { groups: odd, well } = all ? { groups, well: [] } : differing;
    return (
      <>
        {all && (
          <p className="px-5 pb-2 text-sm text-faint">
            Every site is drawn. <DrawAll>Only what differs</DrawAll>
          </p>
        )}
        {well.length > 0 && <Well groups={well} />}
        <Wide groups={odd} by={by} frame={frame} />
      </>
    );
  }
  return <Narrow groups={groups} by={by} frame={frame} />;
});

/** Groups of which nothing is in trouble, in a line. */
function Well({ groups }: { groups: Shoal[] }) {
  const sites = groups.reduce((sum, group) => sum + group.sites.length, 0);
  return (
    <p className="px-5 pb-2 text-sm text-faint">
      {plural(groups.length, "group")} with {count(sites)} sites {groups.length > 1 ? "are" : "is"}{" "}
      well throughout: <DrawAll>draw them</DrawAll>
    </p>
  );
}

/** Some hundred marks, each with its name. */
function Narrow({ groups, by, frame }: PartProps) {
  const holder = useRef<HTMLDivElement>(null);
  useInnerLinks(holder);
  const across =
    groups.length > MOST_ACROSS
      ? "grid grid-cols-[repeat(auto-fill,minmax(17rem,1fr))] gap-x-8 gap-y-4"
      : "space-y-5";
  return (
    <div ref={holder} className={frame}>
      <div className={across}>
        {groups.map((shoal) => (
          <section key={shoal.title} aria-label={shoal.title}>
            <Title shoal={shoal} by={by} />
            <ul className="flex flex-wrap items-center gap-x-1 gap-y-1 pb-1">
              {shoal.sites.map((site) => (
                <li key={site.id}>
                  <SiteMark site={site} />
                </li>
              ))}
            </ul>
          </section>
        ))}
      </div>
    </div>
  );
}
