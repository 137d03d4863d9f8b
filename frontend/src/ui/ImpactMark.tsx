import type { Schemas } from "../api/client";

export type Impact = Schemas["ImpactEnum"];

/** What a finding means, in a shape of its own; the colour repeats it. */
export function ImpactMark({ impact, size = 24 }: { impact: Impact; size?: number }) {
  return (
    <svg
      width={size}
      height={size}
      viewBox="0 0 24 24"
      aria-hidden="true"
      className="block shrink-0"
    >
      {SHAPES[impact]}
    </svg>
  );
}

// A gate that is shut, as in the strip of a passage.
export const SHUT = (
  <g className="fill-blocked stroke-blocked">
    <path d="M3 2 V22 M21 2 V22" strokeWidth="3" fill="none" />
    <path d="M3 6 H21 V18 H3 Z" stroke="none" />
    <path d="M7 18 L12 6 M12.5 18 L17.5 6" className="stroke-sheet" strokeWidth="2" />
  </g>
);

const SHAPES: Record<Impact, React.ReactNode> = {
  outage: SHUT,
  // A gate whose leaf stands open.
  exposure: (
    <g className="stroke-diverted" fill="none" strokeWidth="2.4">
      <path d="M4 3 V21 M20 3 V21" />
      <path d="M4 7 L13 3.5 V17 L4 20" className="fill-diverted/30" strokeWidth="2" />
    </g>
  ),
  // Two hulls in one berth.
  clash: (
    <g className="stroke-unsure" fill="none" strokeWidth="2.4">
      <path d="M2 8 H15 L11.5 16 H5.5 Z" />
      <path d="M9 8 H22 L18.5 16 H12.5 Z" />
    </g>
  ),
  // An anchor line that has slipped from its mark.
  drift: (
    <g className="stroke-ink" fill="none" strokeWidth="2">
      <path d="M6 3 V21" strokeDasharray="3 2.5" />
      <path d="M6 3 C14 7 17 13 17 21" />
    </g>
  ),
  // A rope that frays.
  upkeep: (
    <g className="stroke-skipped" fill="none" strokeWidth="2">
      <path d="M3 12 H13 M13 12 L20 6 M13 12 H21 M13 12 L20 18" />
    </g>
  ),
};

export const IMPACT_WORDS: Record<Impact, string> = {
  outage: "visitors fail",
  exposure: "open to others",
  clash: "claimed twice",
  drift: "not as declared",
  upkeep: "not wrong yet",
};
