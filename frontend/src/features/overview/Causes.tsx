import { Link } from "react-router";
import { plural } from "../../lib/text";
import { Prose } from "../../ui/Prose";
import { Mark } from "./Mark";
import { type Cause, causes, causeWords, followLink } from "./present";
import type { Site } from "./queries";

const SHOWN = 6;

/** What is in trouble, grouped by the gate at which it is. */
export function Causes({ sites }: { sites: Site[] }) {
  const found = causes(sites);
  if (!found.length) {
    return (
      <p className="text-lg">
        {sites.length ? "Every front page is shown." : "Nothing to see with these words."}
      </p>
    );
  }
  return (
    <>
      <h2 className="mb-3 text-xl font-medium">Where to start</h2>
      <ol className="space-y-5">
        {found.map((cause) => (
          <li key={`${cause.state} ${cause.gate}`}>
            <Group cause={cause} />
          </li>
        ))}
      </ol>
    </>
  );
}

function Group({ cause }: { cause: Cause }) {
  const rest = cause.sites.slice(SHOWN);
  return (
    <section aria-label={causeWords(cause)}>
      <h3 className="flex items-center gap-2">
        <Mark state={cause.state} personal={false} />
        <span className="font-medium">{causeWords(cause)}</span>
        <span className="text-sm text-faint">
          {plural(cause.sites.length, "site")}, gate <em>{cause.gate}</em>
        </span>
      </h3>
      <ul className="mt-1 space-y-1 pl-8">
        {cause.sites.slice(0, SHOWN).map((site) => (
          <Line key={site.id} site={site} />
        ))}
      </ul>
      {rest.length > 0 && (
        <details className="pl-8">
          <summary className="cursor-pointer text-sm text-faint">and {rest.length} more</summary>
          <ul className="mt-1 space-y-1">
            {rest.map((site) => (
              <Line key={site.id} site={site} />
            ))}
          </ul>
        </details>
      )}
    </section>
  );
}

function Line({ site }: { site: Site }) {
  return (
    <li className="leading-tight">
      <Link
        to={followLink(site)}
        className="mono font-semibold underline decoration-line underline-offset-3 hover:decoration-ink"
      >
        {site.name}
      </Link>{" "}
      <span className="text-sm break-words text-faint">
        <Prose text={site.reason} />
        {site.obstacles > 1 ? ` ${site.obstacles - 1} more behind it.` : ""}
      </span>
    </li>
  );
}
