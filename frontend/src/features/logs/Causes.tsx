import { count } from "../../lib/numbers";
import { Prose } from "../../ui/Prose";
import { at, share, zoneWords } from "./present";
import type { FailureGroup, Failures } from "./queries";
import { Save } from "./Save";

interface Props {
  failures: Failures;
  zone: number;
  whole: boolean;
  chosen: string | null;
  choose: (key: string) => void;
}

const ROW = "grid grid-cols-[5.5rem_minmax(0,1fr)_8.5rem] gap-x-4";

/** Why requests failed: each cause with how many it met, and since when. */
export function Causes({ failures, zone, whole, chosen, choose }: Props) {
  const { groups, failed, explained } = failures;
  if (!failed) {
    return <p className="py-8 text-lg">No request of this range failed.</p>;
  }
  const most = Math.max(...groups.map((group) => group.requests));
  return (
    <section aria-label="Why requests failed">
      <p className="flex items-baseline gap-4 pb-2">
        <span>
          {count(failed)} requests failed, or came for a name that nobody claims;{" "}
          <strong className="font-medium">{share(explained, failed)} are explained</strong> by what
          stands on the server now.
        </span>
        <span className="ml-auto shrink-0">
          <Save name="failures" rows={() => table(groups, zone)} />
        </span>
      </p>
      <div className={`${ROW} border-b border-ink pb-1 text-xs text-faint`}>
        <span className="text-right">requests</span>
        <span>cause</span>
        <span>first and last, {zoneWords(zone)}</span>
      </div>
      <ul>
        {groups.map((group) => (
          <li key={group.key}>
            <button
              type="button"
              aria-pressed={chosen === group.key}
              onClick={() => choose(group.key)}
              className={`${ROW} w-full cursor-pointer border-b border-line py-1.5 text-left hover:bg-shoal aria-pressed:bg-shoal`}
            >
              <Weight group={group} most={most} />
              <span className="min-w-0">
                <span className="block leading-snug break-words">
                  <Prose text={sentence(group)} />
                </span>
                <span className="text-sm text-faint">
                  {!whole ? null : <span className="mono mr-3">{group.site}</span>}
                  <Standing group={group} />
                </span>
              </span>
              <span className="mono text-faint">
                <span className="block">{at(group.first, zone).slice(5)}</span>
                <span className="block">{at(group.last, zone).slice(5)}</span>
              </span>
            </button>
          </li>
        ))}
      </ul>
    </section>
  );
}

/** How many, as a length too. */
function Weight({ group, most }: { group: FailureGroup; most: number }) {
  return (
    <span className="text-right">
      <span className="block font-medium">{count(group.requests)}</span>
      <svg viewBox="0 0 100 5" className="mt-0.5 h-1.5 w-full" aria-hidden="true">
        <path
          d={`M100 2.5 H${100 - Math.max(2, (100 * group.requests) / most)}`}
          strokeWidth="5"
          className={group.standing === "explained" ? "stroke-blocked" : "stroke-unsure"}
        />
      </svg>
    </span>
  );
}

/** The cause in a sentence, with how many more such there are. */
export function sentence(group: FailureGroup): string {
  const others = group.places.length - 1;
  if (group.standing === "differs") {
    return group.now === null
      ? "It failed then; now nobody would answer."
      : `It got ${group.status} then; now it would get ${group.now}.`;
  }
  if (group.standing === "unsure") {
    return group.why || "Whether it would fail now is not decided.";
  }
  return others > 0 ? `${group.why} So it is with ${others} more in ${group.place}.` : group.why;
}

function Standing({ group }: { group: FailureGroup }) {
  if (group.standing === "explained") {
    return (
      <>
        {group.status} at the gate <span className="font-medium">{group.gate}</span>
      </>
    );
  }
  return (
    <span className="text-unsure">
      {group.status}, {group.standing === "differs" ? "differs from now" : "not decided"}
    </span>
  );
}

function table(groups: FailureGroup[], zone: number) {
  return [
    ["site", "status", "requests", "visitors", "first", "last", "gate", "standing", "why"],
    ...groups.map((group) => [
      group.site,
      group.status,
      group.requests,
      group.visitors,
      `${at(group.first, zone)} ${zoneWords(zone)}`,
      `${at(group.last, zone)} ${zoneWords(zone)}`,
      group.gate,
      group.standing,
      sentence(group),
    ]),
  ];
}
