import { useQuery } from "@tanstack/react-query";
import { Link, useSearchParams } from "react-router";
import { plural } from "../../lib/text";
import { IMPACT_WORDS, ImpactMark } from "../../ui/ImpactMark";
import { Prose } from "../../ui/Prose";
import { Failed, Waiting } from "../../ui/States";
import { matchingGroups } from "./present";
import { type BriefFinding, findingsQuery, type Group } from "./queries";

const SHOWN = 4;

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
  const rest = group.findings.slice(SHOWN);
  const beyond = group.count - group.findings.length;
  return (
    <section aria-label={group.title}>
      <h3 className="grid grid-cols-[1.75rem_1fr] items-start gap-1">
        <ImpactMark impact={group.impact} />
        <span className="min-w-0">
          <span className="font-medium">{group.title}</span>
          <span className="block text-sm text-faint">
            {IMPACT_WORDS[group.impact]}
            {group.count > 1 ? `, ${group.count} times` : ""}
            {group.requests_a_day ? `; ${plural(group.requests_a_day, "request")} a day` : ""}
          </span>
        </span>
      </h3>
      <ul className="mt-1 space-y-1.5 pl-8">
        {group.findings.slice(0, SHOWN).map((finding) => (
          <Line key={finding.key} finding={finding} />
        ))}
      </ul>
      {rest.length > 0 && (
        <details className="pl-8">
          <summary className="cursor-pointer text-sm text-faint">
            and {rest.length + beyond} more
          </summary>
          <ul className="mt-1 space-y-1.5">
            {rest.map((finding) => (
              <Line key={finding.key} finding={finding} />
            ))}
          </ul>
          {beyond > 0 && <p className="text-sm text-faint">{beyond} are not listed here.</p>}
        </details>
      )}
    </section>
  );
}

function Line({ finding }: { finding: BriefFinding }) {
  const [params] = useSearchParams();
  const next = new URLSearchParams(params);
  next.set("finding", finding.key);
  return (
    <li className="leading-tight">
      <Link
        to={`/?${next}`}
        className="break-words decoration-line underline-offset-3 hover:underline"
      >
        {finding.news === "new" && <span className="mr-1 font-bold text-blocked">new:</span>}
        <Prose text={finding.title} />
      </Link>
    </li>
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
