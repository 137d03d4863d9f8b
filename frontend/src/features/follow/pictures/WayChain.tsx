import type { Schemas } from "../../../api/client";
import { Source } from "../Source";

/** From the address down to a path on disk, one mapping under the other. */
export function WayChain({ mappings }: { mappings: Schemas["MappingView"][] }) {
  const last = mappings.at(-1);
  return (
    <ol aria-label="From address to path" className="space-y-0">
      <li className="mono text-lg">{mappings[0]?.before}</li>
      {mappings.map((step) => (
        <li key={`${step.how} ${step.after}`} className="grid grid-cols-[2rem_1fr]">
          <svg
            viewBox="0 0 32 64"
            className="h-full min-h-16 w-8"
            preserveAspectRatio="none"
            aria-hidden="true"
          >
            <path
              d="M10 0 V58 M5 51 L10 58 L15 51"
              fill="none"
              strokeWidth="2"
              className="stroke-ink"
            />
          </svg>
          <div className="py-2">
            <span className="text-faint">{step.words}</span>
            {step.at && <Source proof={step.at} />}
          </div>
        </li>
      ))}
      <li className="mono text-lg font-semibold wrap-anywhere">{last?.after}</li>
    </ol>
  );
}
