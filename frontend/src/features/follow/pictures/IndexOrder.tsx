import type { Schemas } from "../../../api/client";
import { size } from "../../../lib/numbers";

/** The names that are tried for a folder, in their order. */
export function IndexOrder({ candidates }: { candidates: Schemas["CandidateView"][] }) {
  return (
    <ol aria-label="Index names in the order tried" className="border-y border-line">
      {candidates.map((candidate, number) => {
        const served = candidate.outcome === "served";
        return (
          <li
            key={candidate.name}
            className={`grid grid-cols-[2.5rem_14rem_1fr_6rem] items-baseline gap-3 border-l-4 px-2 py-1.5 not-last:border-b not-last:border-b-line ${served ? "border-l-clear bg-shoal" : "border-l-transparent"}`}
          >
            <span className="mono text-faint">{number + 1}</span>
            <code className={served ? "font-semibold" : "text-faint"}>{candidate.name}</code>
            <span className={served ? "font-bold text-clear" : "text-faint"}>
              {candidate.words}
            </span>
            <span className="mono text-right text-faint">
              {candidate.size === null ? "" : size(candidate.size)}
            </span>
          </li>
        );
      })}
    </ol>
  );
}
