import type { Claim } from "../queries";

/** All sites that could answer, in the order in which they are weighed. */
export function Contest({ claims }: { claims: Claim[] }) {
  return (
    <ol aria-label="Sites in the order weighed" className="border-y border-line">
      {claims.map((claim, number) => {
        const won = claim.outcome === "won" || claim.outcome === "first";
        return (
          <li
            key={`${claim.at.file}:${claim.at.line}`}
            data-won={won}
            className="grid grid-cols-[2.5rem_minmax(0,13rem)_minmax(0,1fr)_minmax(0,14rem)] items-baseline gap-3 border-l-4 border-transparent px-2 py-1.5 not-last:border-b not-last:border-b-line data-[won=true]:border-l-clear data-[won=true]:bg-shoal"
          >
            <span className="mono text-faint">{number + 1}</span>
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
      })}
    </ol>
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
