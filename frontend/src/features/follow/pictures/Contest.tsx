import { useState } from "react";
import { plural } from "../../../lib/text";
import { foldedClaims } from "../present";
import type { Claim } from "../queries";

const ROW =
  "grid grid-cols-[2.5rem_minmax(0,13rem)_minmax(0,1fr)_minmax(0,14rem)] items-baseline gap-3 border-l-4 border-transparent px-2 py-1.5 not-last:border-b not-last:border-b-line";

/** All sites that could answer, in the order in which they are weighed; those that claim other names
 * are folded around those that matter.
 */
export function Contest({ claims }: { claims: Claim[] }) {
  const [unfolded, setUnfolded] = useState<ReadonlySet<number>>(new Set());
  return (
    <ol aria-label="Sites in the order weighed" className="border-y border-line">
      {foldedClaims(claims).map(({ first, claims: run }) =>
        run.length > 1 && !unfolded.has(first) ? (
          <li key={first} className={ROW}>
            <span className="mono text-faint">{first + 1}</span>
            <button
              type="button"
              onClick={() => setUnfolded(new Set([...unfolded, first]))}
              className="col-span-3 cursor-pointer text-left text-faint underline decoration-line underline-offset-3"
            >
              {plural(run.length, "site")} from here on claim other names
            </button>
          </li>
        ) : (
          run.map((claim, at) => (
            <Rival
              key={`${claim.at.file}:${claim.at.line}`}
              claim={claim}
              number={first + at + 1}
            />
          ))
        ),
      )}
    </ol>
  );
}

function Rival({ claim, number }: { claim: Claim; number: number }) {
  const won = claim.outcome === "won" || claim.outcome === "first";
  return (
    <li data-won={won} className={`${ROW} data-[won=true]:border-l-clear data-[won=true]:bg-shoal`}>
      <span className="mono text-faint">{number}</span>
      <span className="min-w-0">
        <span className={`block truncate ${won ? "font-bold" : ""}`}>{claim.site}</span>
        <span className="mono text-faint">{claim.binding}</span>
      </span>
      <Names claim={claim} />
      <span className="min-w-0 text-right">
        <span className={`block text-sm ${won ? "font-bold text-clear" : "text-faint"}`}>
          {claim.words}
        </span>
        <span className="mono block truncate text-faint" title={`${claim.at.file}`}>
          {claim.at.file?.split("/").at(-1)}:{claim.at.line}
        </span>
      </span>
    </li>
  );
}

function Names({ claim }: { claim: Claim }) {
  if (!claim.names.length) return <span className="text-faint italic">no name of its own</span>;
  return (
    <span className="mono min-w-0 break-words">
      {claim.names.map((name) => (
        <span
          key={name}
          className={`mr-2 inline-block ${
            claim.matched?.toLowerCase() === name.toLowerCase()
              ? "border-b-2 border-ink font-semibold"
              : "text-faint"
          }`}
        >
          {name}
        </span>
      ))}
    </span>
  );
}
