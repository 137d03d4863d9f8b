import type { ReactNode } from "react";
import { Link } from "react-router";
import { count } from "../../lib/numbers";
import { plural } from "../../lib/text";
import { Copy } from "../../ui/Copy";
import { Prose } from "../../ui/Prose";
import { sentence } from "./Causes";
import { at, zoneWords } from "./present";
import type { FailureGroup } from "./queries";

/** One cause: since when, what is in the way, what the engine said, and where to go from here. */
export function CausePane({ group, zone }: { group: FailureGroup; zone: number }) {
  const accounts = group.places.filter((place) => place.account);
  return (
    <article aria-label="Cause" className="space-y-5">
      <header>
        <h2 className="text-xl leading-snug font-medium break-words">
          <Prose text={sentence(group)} />
        </h2>
        <p className="text-faint">
          {count(group.requests)} requests of {plural(group.visitors, "visitor")}, at{" "}
          <Link
            to={`/site?${new URLSearchParams({ at: group.declared_at })}`}
            className="mono underline"
          >
            {group.site}
          </Link>
        </p>
      </header>
      <Begin group={group} zone={zone} />
      {group.standing === "differs" && <Differs group={group} zone={zone} />}
      <nav aria-label="From here" className="space-y-1">
        <Link
          to={`/follow?${new URLSearchParams({ url: group.url })}`}
          className="block w-fit max-w-full underline wrap-anywhere"
        >
          follow one of them: <span className="mono">{group.url}</span>
        </Link>
        {accounts.length > 0 && (
          <Link to="/users?by=home" className="block w-fit underline">
            see {plural(accounts.length, "account")} in User sites
          </Link>
        )}
      </nav>
      {group.findings.length > 0 && (
        <Part title={`${plural(group.findings.length, "finding says", "findings say")} so`}>
          <ul className="space-y-1">
            {group.findings.slice(0, MOST).map((finding) => (
              <li key={finding.key}>
                <Link to={`/?finding=${finding.key}`} className="break-words hover:underline">
                  <Prose text={finding.title} />
                </Link>
              </li>
            ))}
            {group.findings.length > MOST && (
              <li className="text-faint">and {group.findings.length - MOST} more</li>
            )}
          </ul>
        </Part>
      )}
      {group.places.length > 0 && (
        <Part title="In the way">
          <Counted
            rows={group.places.map((place) => ({
              text: place.path,
              number: place.requests,
              to: place.path.startsWith("/")
                ? `/who?${new URLSearchParams({ path: place.path })}`
                : null,
            }))}
          />
        </Part>
      )}
      {group.said.map((said) => (
        <Part key={said.reason} title="The error log says">
          <p>
            {said.reason} <span className="text-faint">({count(said.requests)} lines)</span>
          </p>
          <code className="block text-faint wrap-anywhere">{said.message}</code>
        </Part>
      ))}
      <Part title="Asked for most">
        <Counted
          rows={group.addresses.map((address) => ({
            text: `${address.method} ${address.host ? `${address.host} ` : ""}${address.path}`,
            number: address.requests,
            to: null,
          }))}
        />
      </Part>
    </article>
  );
}

const MOST = 4;

/** When it began, and the change nearest before. */
function Begin({ group, zone }: { group: FailureGroup; zone: number }) {
  return (
    <p>
      Since <span className="mono">{at(group.first, zone)}</span> {zoneWords(zone)}
      {group.began && (
        <>
          . The change nearest before: <span className="mono">{at(group.began.at, zone)}</span>,{" "}
          <code className="wrap-anywhere">{group.began.path}</code>: {group.began.what}
        </>
      )}
      .
    </p>
  );
}

function Differs({ group, zone }: { group: FailureGroup; zone: number }) {
  return (
    <Part title="Differs from now">
      {group.before && (
        <p>
          On the survey before: <Prose text={group.before} />
        </p>
      )}
      {group.why && (
        <p>
          Now: <Prose text={group.why} />
        </p>
      )}
      {group.since.map((change) => (
        <p key={`${change.path} ${change.at}`}>
          Changed since: <span className="mono">{at(change.at, zone)}</span>,{" "}
          <code className="wrap-anywhere">{change.path}</code>: {change.what}
        </p>
      ))}
      {!group.before && !group.since.length && !group.findings.length && (
        <p className="text-faint">Nothing on its way is known to have changed since.</p>
      )}
    </Part>
  );
}

function Part({ title, children }: { title: string; children: ReactNode }) {
  return (
    <section>
      <h3 className="mb-1 border-b border-line text-sm text-faint">{title}</h3>
      {children}
    </section>
  );
}

interface CountedRow {
  text: string;
  number: number;
  to: string | null;
}

function Counted({ rows }: { rows: CountedRow[] }) {
  return (
    <ul>
      {rows.map((row) => (
        <li key={row.text} className="grid grid-cols-[4rem_minmax(0,1fr)_auto] gap-2">
          <span className="text-right text-faint">{count(row.number)}</span>
          {row.to ? (
            <Link to={row.to} className="mono wrap-anywhere hover:underline">
              {row.text}
            </Link>
          ) : (
            <span className="mono wrap-anywhere">{row.text}</span>
          )}
          <Copy text={row.text} label="it" />
        </li>
      ))}
    </ul>
  );
}
