import { SHUT } from "./ImpactMark";
import type { State } from "./queries";

/** One site. The shape says how it fares. */
export function Mark({ state, size }: { state: State; size: number }) {
  return (
    <svg width={size} height={size} viewBox="0 0 24 24" aria-hidden="true" className="block">
      {SHAPES[state]}
    </svg>
  );
}

const SHAPES: Record<State, React.ReactNode> = {
  // A sounding: a ring with open water in it.
  ok: <circle cx="12" cy="12" r="6.5" fill="none" strokeWidth="2" className="stroke-clear" />,
  blocked: SHUT,
  // A bend in the channel.
  diverted: (
    <g className="stroke-diverted" fill="none" strokeWidth="2.4">
      <path d="M3 7 H9 C14 7 11 17 16 17 H21" />
      <path d="M17 12.5 L21.5 17 L17 21.5" />
    </g>
  ),
  // Unsurveyed ground.
  unsure: (
    <g className="stroke-unsure" fill="none">
      <circle cx="12" cy="12" r="8" strokeWidth="2.2" strokeDasharray="3.2 2.6" />
      <circle cx="12" cy="12" r="1.8" className="fill-unsure" stroke="none" />
    </g>
  ),
};

export const STATE_WORDS: Record<State, string> = {
  ok: "shows its page",
  blocked: "blocked",
  diverted: "diverted",
  unsure: "not sure",
};
