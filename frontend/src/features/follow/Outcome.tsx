import { Link } from "react-router";
import { Copy } from "../../ui/Copy";
import { Mending } from "../../ui/Mending";
import { Prose } from "../../ui/Prose";
import { Source } from "../../ui/Source";
import { AskServer } from "./AskServer";
import { isSure, outcomeWords, refusal, TONES, tone } from "./present";
import type { Obstacle, Passage, Question } from "./queries";

interface Props {
  passage: Passage;
  question: Question;
  choose: (gate: string) => void;
}

/** What the visitor gets, what stands in the way, and what would mend it. */
export function Outcome({ passage, question, choose }: Props) {
  const refused = refusal(passage);
  return (
    <div className="space-y-6">
      <header className={`border-l-4 pl-3 ${TONES[tone(passage)]}`}>
        <p className="mono text-4xl leading-none font-semibold">
          {passage.status ?? "—"}
          {isSure(passage) ? "" : "?"}
        </p>
        <p className="text-lg leading-tight font-medium">{outcomeWords(passage)}</p>
        {passage.premise && <p className="text-unsure">if {passage.premise}</p>}
        {refused && (
          <button
            type="button"
            onClick={() => choose(refused.gate)}
            className="cursor-pointer text-left font-medium text-blocked decoration-line underline-offset-3 hover:underline"
          >
            but not in browsers: they refuse the certificate
          </button>
        )}
      </header>
      {passage.obstacles.length > 0 && (
        <Mending url={question.url} to={question.to} source={question.source} />
      )}
      {passage.obstacles.length > 0 && <Obstacles obstacles={passage.obstacles} choose={choose} />}
      {passage.unsure_because.length > 0 && !passage.premise && (
        <section aria-label="Not sure because">
          <h3 className="mb-1 font-medium text-unsure">Not sure because</h3>
          <ul className="space-y-2">
            {passage.unsure_because.map((doubt) => (
              <li key={`${doubt.gate} ${doubt.reason}`}>
                <Prose text={doubt.reason} />
                {doubt.evidence[0] && <Source proof={doubt.evidence[0]} />}
              </li>
            ))}
          </ul>
        </section>
      )}
      <AskServer question={question} key={JSON.stringify(question)} />
      <Facts passage={passage} />
    </div>
  );
}

function Obstacles({ obstacles, choose }: { obstacles: Obstacle[]; choose: Props["choose"] }) {
  return (
    <section aria-label="Obstacles">
      <h3 className="mb-2 font-medium">
        {obstacles.length === 1
          ? "In the way"
          : `In the way, ${obstacles.length} behind each other`}
      </h3>
      <ol className="space-y-4">
        {obstacles.map((obstacle, number) => (
          <li key={`${obstacle.code} ${obstacle.reason}`} className="grid grid-cols-[1.75rem_1fr]">
            <span className="mono pt-0.5 font-semibold text-blocked">{number + 1}</span>
            <div className="min-w-0">
              <button
                type="button"
                onClick={() => choose(obstacle.gate)}
                className="cursor-pointer text-left break-words decoration-line underline-offset-3 hover:underline"
              >
                <span className="sr-only">Gate {obstacle.gate}: </span>
                <Prose text={obstacle.reason} />
              </button>
              {obstacle.mend && (
                <p className="mt-1 border-l-2 border-clear pl-2 break-words text-clear">
                  <Prose text={obstacle.mend} />
                </p>
              )}
            </div>
          </li>
        ))}
      </ol>
    </section>
  );
}

function Facts({ passage }: { passage: Passage }) {
  const rows: ReadonlyArray<readonly [string, string | null]> = [
    ["Declared", passage.site ? passage.site.declared_at : null],
    ["File", passage.file],
    ["Type", passage.content_type],
    ["Sent to", passage.location],
    ["Log", passage.log],
  ];
  return (
    <dl className="space-y-2 border-t border-line pt-4">
      {passage.site && (
        <div>
          <dt className="text-sm text-faint">Site</dt>
          <dd className="min-w-0">
            <Link
              className="mono wrap-anywhere underline"
              to={`/site?${new URLSearchParams({ at: passage.site.declared_at })}`}
            >
              {passage.site.name}
            </Link>{" "}
            <Copy text={passage.site.name} label="Site" />
          </dd>
        </div>
      )}
      {rows.map(([word, value]) =>
        value ? (
          <div key={word}>
            <dt className="text-sm text-faint">{word}</dt>
            <dd className="min-w-0">
              <code className="wrap-anywhere">{value}</code> <Copy text={value} label={word} />
            </dd>
          </div>
        ) : null,
      )}
      {passage.kept && (
        <div>
          <dt className="text-sm text-faint">Browsers may show an older copy</dt>
          <dd className="min-w-0">
            {passage.kept.words}
            {passage.kept.at && <Source proof={passage.kept.at} />}
          </dd>
        </div>
      )}
    </dl>
  );
}
