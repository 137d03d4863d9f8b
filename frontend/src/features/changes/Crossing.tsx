import { plural } from "../../lib/text";
import { FATES, type Fate } from "./present";
import type { Rehearsal } from "./queries";

const WIDTH = 640;
const HEIGHT = 150;
const REACHED = 40;
const STOPPED = 118;
const LEFT = 150;
const RIGHT = WIDTH - 150;

const ENDS: Record<Fate, readonly [from: number, to: number]> = {
  opens: [STOPPED, REACHED],
  closes: [REACHED, STOPPED],
  "answered otherwise": [REACHED - 14, REACHED - 14],
  unsure: [STOPPED + 14, (REACHED + STOPPED) / 2],
  // From where nobody was.
  new: [(REACHED + STOPPED) / 2, (REACHED + STOPPED) / 2],
};

const STROKES: Record<Fate, string> = {
  opens: "stroke-clear",
  closes: "stroke-blocked",
  "answered otherwise": "stroke-diverted",
  unsure: "stroke-unsure",
  new: "stroke-ink",
};

const DASHES: Partial<Record<Fate, string>> = {
  "answered otherwise": "9 5",
  unsure: "2 5",
  new: "1 3",
};

/** Which pages cross over from where visitors are stopped to where they get through, and back. */
export function Crossing({ counts }: { counts: Rehearsal["counts"] }) {
  const shown = FATES.filter(([fate]) => counts[fate]);
  const words = shown.map(([fate, one, several]) => {
    const count = counts[fate] ?? 0;
    return `${plural(count, "page")} ${count === 1 ? one : several}`;
  });
  return (
    <svg
      viewBox={`0 0 ${WIDTH} ${HEIGHT}`}
      role="img"
      aria-label={`Before and after: ${words.join(", ")}`}
      className="block w-full max-w-3xl"
    >
      {[
        [REACHED, "get through"],
        [STOPPED, "are stopped"],
      ].map(([at, word]) => (
        <g key={word} className="fill-faint text-[13px]">
          <path d={`M${LEFT} ${at} H${RIGHT}`} className="stroke-line" strokeDasharray="1 4" />
          <Berth x={LEFT} y={Number(at)} open={at === REACHED} />
          <Berth x={RIGHT} y={Number(at)} open={at === REACHED} />
          <text x={LEFT - 20} y={Number(at) + 4} textAnchor="end">
            {word}
          </text>
        </g>
      ))}
      <text x={LEFT} y={14} textAnchor="middle" className="fill-ink text-[13px] font-medium">
        before
      </text>
      <text x={RIGHT} y={14} textAnchor="middle" className="fill-ink text-[13px] font-medium">
        after
      </text>
      {shown.map(([fate], number) => (
        <Thread key={fate} fate={fate} count={counts[fate] ?? 0} at={number} of={shown.length} />
      ))}
    </svg>
  );
}

/** A gate's two posts; with its leaf across where nobody gets through. */
function Berth({ x, y, open }: { x: number; y: number; open: boolean }) {
  return (
    <path
      d={`M${x - 8} ${y - 11} V${y + 11} M${x + 8} ${y - 11} V${y + 11}${open ? "" : ` M${x - 8} ${y} H${x + 8}`}`}
      className={open ? "stroke-ink" : "stroke-skipped"}
      strokeWidth={open ? 2 : 3}
      fill="none"
    />
  );
}

interface ThreadProps {
  fate: Fate;
  count: number;
  at: number;
  of: number;
}

function Thread({ fate, count, at, of }: ThreadProps) {
  const [from, to] = ENDS[fate];
  const [begin, end] = [LEFT + 14, RIGHT - 14];
  const middle = (begin + end) / 2;
  // Many pages make a thicker rope; a thousand are not a thousand times as thick.
  const width = 1.5 + 2.5 * Math.log10(count + 1);
  const share = (at + 1) / (of + 1);
  const spot = { x: begin + (end - begin) * share, y: along(from, to, share) };
  return (
    <g>
      <path
        d={`M${begin} ${from} C${middle} ${from} ${middle} ${to} ${end} ${to}`}
        className={STROKES[fate]}
        strokeWidth={width}
        strokeDasharray={DASHES[fate]}
        fill="none"
      />
      <circle cx={spot.x} cy={spot.y} r={15} className="fill-sheet stroke-line" />
      <text x={spot.x} y={spot.y + 4.5} textAnchor="middle" className="mono fill-ink text-[13px]">
        {count}
      </text>
    </g>
  );
}

/** The height of the curve above where it is seen from the side (a cubic with level ends). */
function along(from: number, to: number, x: number): number {
  // The curve's own share for a share of the width: its ends lie at 0, 1/2, 1/2 and 1.
  let [low, high] = [0, 1];
  for (let step = 0; step < 20; step += 1) {
    const t = (low + high) / 2;
    const here = 1.5 * t * (1 - t) + t ** 3;
    if (here < x) low = t;
    else high = t;
  }
  const t = (low + high) / 2;
  return from + (to - from) * (3 * t * t - 2 * t ** 3);
}
