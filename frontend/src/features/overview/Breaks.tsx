import { Link } from "react-router";
import { cut, moment, plural } from "../../lib/text";
import { Copy } from "../../ui/Copy";
import { Cut } from "../../ui/Cut";
import { BEHIND } from "./present";
import type { Break } from "./queries";

/** Where an engine would stop reading its configuration: what a restart would come to. */
export function Breaks({ breaks }: { breaks: Break[] }) {
  return breaks.map((each) => (
    <section
      key={each.engine}
      aria-label={`${each.engine} would not load its configuration`}
      className="mx-5 mb-3 border-l-8 border-blocked bg-sheet px-4 py-2"
    >
      <p className="font-medium text-blocked">
        <span className="mono">{each.engine}</span> would not load its configuration: a restart
        takes down every site of it.
      </p>
      <p className="mono break-words">
        <Cut text={each.message} />
      </p>
      <p className="text-sm text-faint">
        <span className="mono wrap-anywhere">
          {cut(each.file, 120)}:{each.line}
        </span>{" "}
        <Copy text={`${each.file}:${each.line}`} label="the place" />
        {each.engine_says ? ", by its own check." : ", by our reading."}{" "}
        {each.runs_since !== null &&
          `It goes on with what it read on ${moment(new Date(each.runs_since * 1000).toISOString())}. `}
        {each.behind > 0 && (
          <Link className="underline" to={`/?${new URLSearchParams({ q: BEHIND })}`}>
            {plural(each.behind, "site")} at or behind this line
          </Link>
        )}
      </p>
    </section>
  ));
}
