import type { Schemas } from "../../../api/client";
import { Source } from "../../../ui/Source";

type Step = Schemas["MappingView"];
type Place = Schemas["PlaceView"];

/** From the address down to what it leads to: what each line made of it, one under the other. */
export function WayChain({ mappings, places }: { mappings: Step[]; places: Place[] }) {
  return (
    <div className="space-y-6">
      {places.length > 1 && <Places places={places} />}
      <ol aria-label="From address to path">
        <li className="mono text-lg wrap-anywhere">{mappings[0]?.before}</li>
        {mappings.map((step, number) => (
          <li
            key={`${number} ${step.how} ${step.after}`}
            className="grid grid-cols-[2rem_1fr] not-last:pb-1"
          >
            <svg
              viewBox="0 0 32 64"
              className="h-full min-h-12 w-8"
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
            <div className="min-w-0 py-1">
              <span className="text-faint">{step.words}</span>
              {step.at && <Source proof={step.at} />}
            </div>
            <span
              className={`mono col-span-2 text-lg wrap-anywhere ${
                number === mappings.length - 1 ? "font-semibold" : ""
              }`}
            >
              {step.after === step.before ? <Unchanged /> : step.after}
            </span>
          </li>
        ))}
      </ol>
    </div>
  );
}

function Unchanged() {
  return <span className="text-base text-faint italic">stays as it is</span>;
}

/** The places of the configuration that could take the address, in the order of weighing. */
function Places({ places }: { places: Place[] }) {
  return (
    <ol aria-label="Places in the order weighed" className="border-y border-line">
      {places.map((place, number) => (
        <li
          key={`${number} ${place.title}`}
          data-won={place.outcome === "won"}
          className="grid grid-cols-[2.5rem_minmax(0,1fr)_minmax(0,18rem)] items-baseline gap-3 border-l-4 border-transparent px-2 py-1.5 not-last:border-b not-last:border-b-line data-[won=true]:border-l-clear data-[won=true]:bg-shoal"
        >
          <span className="mono text-faint">{number + 1}</span>
          <span className="mono min-w-0 wrap-anywhere">{place.title}</span>
          <span className="text-right text-sm text-faint">{place.words}</span>
        </li>
      ))}
    </ol>
  );
}
