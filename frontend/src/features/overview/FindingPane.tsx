import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { type FormEvent, useState } from "react";
import { Link } from "react-router";
import { cut, moment, plural } from "../../lib/text";
import { AddToPlan } from "../../ui/AddToPlan";
import { Button } from "../../ui/Button";
import { Copy } from "../../ui/Copy";
import { Cut } from "../../ui/Cut";
import { IMPACT_WORDS, ImpactMark } from "../../ui/ImpactMark";
import { Prose } from "../../ui/Prose";
import { Source } from "../../ui/Source";
import { Failed, Waiting } from "../../ui/States";
import { accept, type Evidence, type Finding, findingQuery, type Remedy, takeUp } from "./queries";

/** One finding: what is so, the evidence, what mends it, and what its kind means. */
export function FindingPane({ id, back }: { id: string; back: string }) {
  const found = useQuery(findingQuery(id));
  if (found.isPending) return <Waiting>Reading the finding</Waiting>;
  if (found.isError) return <Failed error={found.error} retry={found.refetch} />;
  const finding = found.data;
  return (
    <article aria-label="Finding" className="space-y-5">
      <Link to={back} className="text-sm text-faint underline">
        all that is found
      </Link>
      <header>
        <p className="flex items-center gap-2 text-sm text-faint">
          <ImpactMark impact={finding.impact} /> {IMPACT_WORDS[finding.impact]}
          <span className="mono ml-auto">{finding.id}</span>
        </p>
        <h2 className="mt-1 text-xl leading-snug font-medium break-words">
          <Cut text={finding.title}>{(text) => <Prose text={text} whole />}</Cut>
        </h2>
        {finding.news === "new" && (
          <p className="font-medium text-blocked">New since the survey before.</p>
        )}
        <TollLine finding={finding} />
      </header>
      <section aria-label="Evidence">
        <ul className="space-y-3 border-l-2 border-line pl-3">
          {finding.evidence.map((proof) => (
            <li key={JSON.stringify(proof)}>
              <Proof proof={proof} />
            </li>
          ))}
        </ul>
      </section>
      <Remedies finding={finding} />
      <Page finding={finding} />
      <Accept finding={finding} />
    </article>
  );
}

/** What visitors meet of it, by the logs. */
function TollLine({ finding }: { finding: Finding }) {
  const { requests_a_day: requests, visitors_a_day: visitors } = finding.toll;
  if (requests == null) return null;
  return (
    <p className="text-faint">
      {requests
        ? `${plural(requests, "request")} of ${plural(visitors ?? 0, "visitor")} a day meet this, by the logs of the last week.`
        : "Hardly anybody met this in the last week, by the logs."}
    </p>
  );
}

function Proof({ proof }: { proof: Evidence }) {
  if (!proof.request) return <Source proof={proof} />;
  return (
    <div>
      <Link
        to={`/follow?${new URLSearchParams({ url: proof.request })}`}
        className="mono wrap-anywhere underline"
      >
        {cut(proof.request, 200)}
      </Link>
      <span className="block break-words text-faint">
        <Prose text={proof.outcome ?? ""} />
      </span>
    </div>
  );
}

function Remedies({ finding }: { finding: Finding }) {
  const { remedies, together } = finding;
  if (!remedies.length) return null;
  return (
    <section aria-label="To mend it">
      <h3 className="mb-1 text-sm text-faint">To mend it</h3>
      <ol className="space-y-2">
        {remedies.map((remedy, number) => (
          <li key={remedy.title}>
            <RemedyText remedy={remedy} />
            {(remedy.operations ?? []).length > 0 && (
              <AddToPlan what={{ finding: finding.key, remedy: number }} />
            )}
          </li>
        ))}
        {together && (
          <li>
            <details>
              <summary className="cursor-pointer text-clear">{together.title}</summary>
              <RemedyText remedy={together} untitled />
              <Copy text={(together.shell ?? []).join("\n")} label="all commands" />
            </details>
            <AddToPlan
              what={{ finding: finding.key, together: true }}
              label="Add all to the plan"
            />
          </li>
        )}
      </ol>
    </section>
  );
}

function RemedyText({ remedy, untitled }: { remedy: Remedy; untitled?: boolean }) {
  return (
    <div className="border-l-2 border-clear pl-2 text-clear">
      {!untitled && <Cut text={remedy.title}>{(text) => <Prose text={text} whole />}</Cut>}
      {(remedy.shell ?? []).map((line) => (
        <span key={line} className="block text-ink">
          <Cut text={line}>{(text) => <code className="wrap-anywhere">{text}</code>}</Cut>{" "}
          {!untitled && <Copy text={line} label="the command" />}
        </span>
      ))}
      {remedy.more > 0 && (
        <span className="block text-sm text-faint">and {remedy.more} more of the same kind</span>
      )}
      {(remedy.opens ?? []).map((line) => (
        <span key={line} className="block text-sm text-diverted">
          <Prose text={line} />
        </span>
      ))}
    </div>
  );
}

function Page({ finding }: { finding: Finding }) {
  return (
    <section aria-label="What this means" className="space-y-3 border-t border-line pt-4">
      {finding.page.map((section) => (
        <div key={section.title}>
          <h3 className="text-sm text-faint">{section.title}</h3>
          <p>{section.text.replaceAll("`", "")}</p>
        </div>
      ))}
    </section>
  );
}

/** Living with it, for a reason and until a day. */
function Accept({ finding }: { finding: Finding }) {
  const queries = useQueryClient();
  const [reason, setReason] = useState("");
  const [until, setUntil] = useState("");
  const changed = () =>
    Promise.all([
      queries.invalidateQueries({ queryKey: ["finding", finding.key] }),
      queries.invalidateQueries({ queryKey: ["findings"] }),
    ]);
  const accepting = useMutation({ mutationFn: accept, onSuccess: changed });
  const taking = useMutation({ mutationFn: takeUp, onSuccess: changed });
  const lived = finding.accepted;
  if (lived) {
    return (
      <section aria-label="Lived with" className="border-t border-line pt-4">
        <p>
          Lived with by <span className="mono">{lived.by}</span> since {moment(lived.at)}
          {lived.until ? `, until ${lived.until}` : ""}: {lived.reason}
        </p>
        <Button className="mt-2" onClick={() => taking.mutate(finding.key)}>
          Take it up again
        </Button>
      </section>
    );
  }
  const go = (event: FormEvent) => {
    event.preventDefault();
    if (reason.trim()) accepting.mutate({ key: finding.key, reason, until: until || null });
  };
  return (
    <form onSubmit={go} aria-label="Live with it" className="space-y-2 border-t border-line pt-4">
      <label className="block text-sm text-faint">
        Live with it, because
        <input
          value={reason}
          onChange={(event) => setReason(event.target.value)}
          maxLength={1000}
          className="block w-full border-b border-ink bg-paper px-1 py-0.5 text-base text-ink"
        />
      </label>
      <div className="flex items-baseline gap-3">
        <label className="text-sm text-faint">
          until{" "}
          <input
            type="date"
            value={until}
            onChange={(event) => setUntil(event.target.value)}
            className="mono border-b border-ink bg-paper px-1 text-ink"
          />
        </label>
        <Button type="submit" disabled={!reason.trim() || accepting.isPending} className="ml-auto">
          Live with it
        </Button>
      </div>
      {accepting.isError && <p className="text-blocked">{accepting.error.message}</p>}
    </form>
  );
}
