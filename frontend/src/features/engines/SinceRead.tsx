import { Link } from "react-router";
import type { Schemas } from "../../api/client";
import { cut, moment, plural } from "../../lib/text";

type State = Schemas["EngineState"];

const WIDTH = 480;
const SHOWN = 12;

/** What changed since an engine last read its configuration: it goes by what it read then. */
export function SinceRead({ state }: { state: State }) {
  const { read_at: read, seen_at: seen, changed } = state;
  if (read === null) return null;
  const begin = read * 1000;
  const now = seen * 1000;
  const span = Math.max(1, now - begin);
  const place = (at: number) =>
    4 + (WIDTH - 8) * Math.min(1, Math.max(0, (at * 1000 - begin) / span));
  const count = changed.length;
  return (
    <section aria-label="Since it was read" className="mt-3">
      <h3 className="font-medium">
        {count
          ? `${plural(count, "file")} newer than what it has read`
          : "It has read what is there"}
      </h3>
      <svg
        viewBox={`0 0 ${WIDTH} 26`}
        className="mt-1 block w-full max-w-xl"
        role="img"
        aria-label={`Read ${moment(new Date(begin).toISOString())}; ${count} changed since`}
      >
        <path d={`M4 13 H${WIDTH - 4}`} className="stroke-line" strokeWidth="2" />
        <path d="M4 4 V22" className="stroke-clear" strokeWidth="4" />
        <path d={`M${WIDTH - 4} 4 V22`} className="stroke-ink" strokeWidth="2" />
        {changed.map(({ path, at }) => (
          <path
            key={path}
            d={`M${place(at) - 5} 19 L${place(at)} 7 L${place(at) + 5} 19 Z`}
            className="fill-diverted"
          />
        ))}
      </svg>
      <p className="flex max-w-xl justify-between text-sm text-faint">
        <span>read {moment(new Date(begin).toISOString())}</span>
        <span>surveyed {moment(new Date(now).toISOString())}</span>
      </p>
      <ul className="mt-1">
        {changed.slice(0, SHOWN).map(({ path, at, sites }) => (
          <li key={path} className="break-words">
            <span className="mono">{cut(path, 70)}</span>{" "}
            <span className="text-faint">changed {moment(new Date(at * 1000).toISOString())}</span>
            {sites.length > 0 && <br />}
            {sites.slice(0, 3).map((site) => (
              <Link key={site} to={`/?q=${encodeURIComponent(site)}`} className="mr-3 underline">
                {cut(site, 40)}
              </Link>
            ))}
          </li>
        ))}
      </ul>
      {count > SHOWN && <p className="text-faint">and {count - SHOWN} more</p>}
    </section>
  );
}
