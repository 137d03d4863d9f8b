import type { CSSProperties } from "react";
import { SHUT } from "../../ui/ImpactMark";
import type { State } from "./queries";

/** One site. The shape says how it fares. */
export function Mark({ state, size }: { state: State; size: number }) {
  if (state === "ok") return <Sounding size={size} />;
  return (
    <svg width={size} height={size} viewBox="0 0 24 24" aria-hidden="true" className="block">
      {SHAPES[state]}
    </svg>
  );
}

/** A ring with open water in it. There are thousands of these, and a border is drawn many times
 * faster than a picture.
 */
function Sounding({ size }: { size: number }) {
  const style = { ...ringStyle(size), width: size, height: size };
  return (
    <span aria-hidden="true" className="sounding grid shrink-0 place-items-center" style={style} />
  );
}

/** For an element that is a sounding: how large its ring is. */
export function ringStyle(size: number): CSSProperties {
  return { "--ring": `${Math.round((size * 5) / 8)}px` } as CSSProperties;
}

const SHAPES: Record<Exclude<State, "ok">, React.ReactNode> = {
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
