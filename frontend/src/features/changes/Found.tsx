import { useState } from "react";
import { Link } from "react-router";
import { plural } from "../../lib/text";
import { type Impact, ImpactMark } from "../../ui/ImpactMark";
import { Prose } from "../../ui/Prose";
import { Crossing } from "./Crossing";
import { FATES, isServed, TONES } from "./present";
import type { Fared, Rehearsal } from "./queries";

/** What a rehearsal found: one sentence, and the crossing. */
export function Summary({ found }: { found: Rehearsal }) {
  return (
    <>
      <p className={`mb-3 text-lg ${found.worse.length ? "text-blocked" : ""}`}>
        {found.summary}{" "}
        {found.reloads.length > 0 && (
          <span className="text-faint">{found.reloads.join(" and ")} must read it anew.</span>
        )}
      </p>
      {found.addresses.length > 0 && <Crossing counts={found.counts} />}
    </>
  );
}

/** Each page that fares differently, the worst first; findings, accounts. */
export function Found({ found }: { found: Rehearsal }) {
  const { addresses, more } = found;
  return (
    <div className="mt-5 max-w-4xl space-y-4">
      {FATES.map(([fate, one, several]) => (
        <Pages
          key={fate}
          words={found.counts[fate] === 1 ? one : several}
          pages={addresses.filter((each) => each.page.fate === fate)}
          count={found.counts[fate] ?? 0}
        />
      ))}
      {more > 0 && (
        <p className="text-sm text-faint">{plural(more, "site")} more are not listed here.</p>
      )}
      <Findings title="Mended" findings={found.mended} />
      <Findings title="New" findings={found.new} />
      <Lines title="Accounts" lines={found.openings} />
      <Lines
        title="Exposed"
        lines={found.exposed.map((each) => `${each.worst} of ${each.owner}, to ${each.other}`)}
      />
    </div>
  );
}

const SHOWN = 8;

interface PagesProps {
  words: string;
  pages: Rehearsal["addresses"];
  count: number;
}

function Pages({ words, pages, count }: PagesProps) {
  const [all, setAll] = useState(false);
  const first = pages[0];
  if (!first) return null;
  return (
    <section aria-label={words}>
      <h2 className={`font-medium ${TONES[first.page.fate]}`}>
        {words}
        <span className="ml-2 text-sm font-normal text-faint">
          {plural(count, "page")} of {plural(pages.length, "site")}
        </span>
      </h2>
      <ul>
        {(all ? pages : pages.slice(0, SHOWN)).map(({ page, others }) => (
          <li key={`${page.url} ${page.to}`}>
            <Page page={page} others={others} />
          </li>
        ))}
      </ul>
      {!all && pages.length > SHOWN && (
        <button
          type="button"
          className="cursor-pointer text-sm text-faint underline"
          onClick={() => setAll(true)}
        >
          and {plural(pages.length - SHOWN, "site")} more
        </button>
      )}
    </section>
  );
}

function Page({ page, others }: { page: Fared; others: number }) {
  const to = new URLSearchParams({ url: page.url, ...(page.to ? { to: page.to } : {}) });
  return (
    <div className="grid grid-cols-[minmax(0,1.2fr)_6rem_minmax(0,1fr)_1.5rem_minmax(0,1fr)] items-baseline gap-3 py-0.5">
      <Link to={`/follow?${to}`} className="mono truncate text-sm hover:underline" title={page.url}>
        {page.url.replace(/^http:\/\//, "")}
      </Link>
      <span className="text-right text-sm text-faint">{others > 0 && `and ${others} below`}</span>
      <Side side={page.before} />
      <span aria-hidden="true" className="text-center text-faint">
        →
      </span>
      <Side side={page.after} />
    </div>
  );
}

function Side({ side }: { side: Fared["before"] }) {
  const kind = !side.decided ? "text-unsure" : isServed(side) ? "text-clear" : "text-blocked";
  return (
    <span className={`truncate text-sm ${kind}`} title={side.file ?? side.words}>
      {side.words}
    </span>
  );
}

function Findings({ title, findings }: { title: string; findings: Rehearsal["mended"] }) {
  if (!findings.length) return null;
  return (
    <section aria-label={title}>
      <h2 className="font-medium">
        {title}
        <span className="ml-2 text-sm font-normal text-faint">
          {plural(findings.length, "finding")}
        </span>
      </h2>
      <ul>
        {findings.slice(0, SHOWN).map((each) => (
          <li key={each.key} className="grid grid-cols-[1.5rem_1fr] gap-1 py-0.5">
            <ImpactMark impact={each.impact as Impact} size={18} />
            <span className="break-words">
              <Prose text={each.title} />
            </span>
          </li>
        ))}
      </ul>
      {findings.length > SHOWN && (
        <p className="text-sm text-faint">and {findings.length - SHOWN} more</p>
      )}
    </section>
  );
}

function Lines({ title, lines }: { title: string; lines: string[] }) {
  if (!lines.length) return null;
  return (
    <section aria-label={title}>
      <h2 className="font-medium">{title}</h2>
      <ul className="text-sm">
        {lines.slice(0, SHOWN).map((line) => (
          <li key={line} className="break-words">
            <Prose text={line} />
          </li>
        ))}
      </ul>
      {lines.length > SHOWN && (
        <p className="text-sm text-faint">and {lines.length - SHOWN} more</p>
      )}
    </section>
  );
}
