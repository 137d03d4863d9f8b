import { useQuery } from "@tanstack/react-query";
import { Fragment, type ReactNode, useState } from "react";
import { Link, useSearchParams } from "react-router";
import { cut, plural } from "../../lib/text";
import { IMPACT_WORDS, ImpactMark } from "../../ui/ImpactMark";
import { Prose } from "../../ui/Prose";
import { Failed, Waiting } from "../../ui/States";
import { heading, matchingGroups } from "./present";
import { type BriefFinding, findingsQuery, type Group } from "./queries";

// Beside the first.
const SHOWN = 5;

/** What is wrong, grouped by cause, the worst first. */
export function Queue({ words }: { words: string }) {
  const [params] = useSearchParams();
  const accepted = params.get("accepted") === "true";
  const found = useQuery(findingsQuery(accepted));
  if (found.isPending) return <Waiting>Reading the findings</Waiting>;
  if (found.isError) return <Failed error={found.error} retry={found.refetch} />;
  const groups = matchingGroups(found.data.groups, words);
  return (
    <>
      <h2 className="mb-3 text-xl font-medium">{accepted ? "Lived with" : "Where to start"}</h2>
      {groups.length === 0 && (
        <p className="text-lg">
          {words ? "Nothing is found with these words." : "Nothing is found to be wrong."}
        </p>
      )}
      <ol className="space-y-5">
        {groups.map((group) => (
          <li key={`${group.impact} ${group.group}`}>
            <Cause group={group} />
          </li>
        ))}
      </ol>
      {found.data.more_groups > 0 && (
        <p className="mt-4 text-sm text-faint">
          {plural(found.data.more_groups, "cause")} more {found.data.more_groups > 1 ? "are" : "is"}{" "}
          not listed here.
        </p>
      )}
      {found.data.gone.length > 0 && !words && <Gone findings={found.data.gone} />}
      {found.data.failed_checks.map((failed) => (
        <p key={failed.id} className="mt-4 text-blocked">
          The check <span className="mono">{failed.id}</span> could not be run:{" "}
          <span className="mono">{failed.why}</span>
        </p>
      ))}
      <p className="mt-6 text-sm">
        {accepted ? (
          <Link className="underline" to="/">
            back to what is open
          </Link>
        ) : (
          found.data.accepted > 0 && (
            <Link className="underline" to="/?accepted=true">
              {plural(found.data.accepted, "finding")} lived with
            </Link>
          )
        )}
      </p>
    </>
  );
}

function Cause({ group }: { group: Group }) {
  const [first, ...others] = group.findings;
  const beyond = group.count - group.findings.length;
  if (!first) return null;
  return (
    <section aria-label={heading(group)}>
      <h3 className="grid grid-cols-[1.75rem_1fr] items-start gap-1">
        <ImpactMark impact={group.impact} />
        <span className="min-w-0">
          <span className="font-medium break-words">
            {others.length ? <Prose text={heading(group)} /> : <Line finding={first} />}
          </span>
          <span className="block text-sm text-faint">
            {IMPACT_WORDS[group.impact]}
            {group.count > 1 ? `, ${group.count} times` : ""}
            {group.requests_a_day ? `; ${plural(group.requests_a_day, "request")} a day` : ""}
          </span>
        </span>
      </h3>
      {others.length > 0 && (
        <div className="mt-1 space-y-1 pl-8">
          <p className="leading-tight">
            <Line finding={first} />
          </p>
          <Likewise findings={others} beyond={beyond} />
        </div>
      )}
    </section>
  );
}

/** The others of a cause, each by what it is about: their sentences would say the same again. */
function Likewise({ findings, beyond }: { findings: BriefFinding[]; beyond: number }) {
  const [all, setAll] = useState(false);
  const shown = all ? findings : findings.slice(0, SHOWN);
  const rest = findings.length - shown.length + beyond;
  return (
    <p className="leading-snug text-faint">
      likewise{" "}
      {shown.map((finding, at) => (
        <Fragment key={finding.key}>
          {at > 0 && ", "}
          <Pick finding={finding}>
            {finding.news === "new" && <span className="font-bold text-blocked">new </span>}
            <span className="mono text-ink wrap-anywhere">{cut(finding.brief, 48)}</span>
          </Pick>
        </Fragment>
      ))}
      {rest > 0 && " and "}
      {rest > 0 &&
        (rest > beyond ? (
          <button type="button" className="cursor-pointer underline" onClick={() => setAll(true)}>
            {rest} more
          </button>
        ) : (
          `${rest} more that are not listed here`
        ))}
    </p>
  );
}

function Line({ finding }: { finding: BriefFinding }) {
  return (
    <Pick finding={finding}>
      {finding.news === "new" && <span className="mr-1 font-bold text-blocked">new:</span>}
      <Prose text={finding.title} />
    </Pick>
  );
}

function Pick({ finding, children }: { finding: BriefFinding; children: ReactNode }) {
  const [params] = useSearchParams();
  const next = new URLSearchParams(params);
  next.set("finding", finding.key);
  return (
    <Link
      to={`/?${next}`}
      title={finding.title}
      className="break-words decoration-line underline-offset-3 hover:underline"
    >
      {children}
    </Link>
  );
}

function Gone({ findings }: { findings: BriefFinding[] }) {
  return (
    <section aria-label="Gone since the survey before" className="mt-6 border-t border-line pt-3">
      <h3 className="font-medium text-clear">Gone since the survey before</h3>
      <ul className="mt-1 space-y-1 text-faint">
        {findings.map((finding) => (
          <li key={finding.key} className="leading-tight break-words line-through decoration-line">
            <Prose text={finding.title} />
          </li>
        ))}
      </ul>
      <Link className="mt-2 inline-block text-sm underline" to="/surveys/changes">
        all that changed since
      </Link>
    </section>
  );
}
