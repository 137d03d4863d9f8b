import { memo, useMemo, useRef } from "react";
import { useInnerLinks } from "../../lib/links";
import { type Grouping, shoals } from "./present";
import type { Site } from "./queries";
import { SiteMark } from "./SiteMark";
import { Title } from "./Title";
import { type PartProps, Wide } from "./Wide";

// With more sites than this, only those in trouble carry their name.
const MOST_NAMED = 200;
// More groups than this stand beside each other.
const MOST_ACROSS = 6;

/** Every site as a mark, in groups. */
export const Field = memo(function Field({ sites, by }: { sites: Site[]; by: Grouping }) {
  const groups = useMemo(() => shoals(sites, by), [sites, by]);
  const frame = "min-h-0 flex-1 overflow-auto bg-paper px-5 pb-6";
  if (!sites.length) {
    return (
      <div className={frame}>
        <p className="py-8 text-faint">No site has these words.</p>
      </div>
    );
  }
  if (sites.length > MOST_NAMED) return <Wide groups={groups} by={by} frame={frame} />;
  return <Narrow groups={groups} by={by} frame={frame} />;
});

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
