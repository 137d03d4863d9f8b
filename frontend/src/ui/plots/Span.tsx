import { AxisBottom } from "@visx/axis";
import { ParentSize } from "@visx/responsive";
import { scaleTime } from "@visx/scale";
import { day } from "../../lib/text";
import { AXIS, WORDS } from "./axis";

interface Props {
  /** Seconds since 1970, UTC. */
  begins: number;
  ends: number;
  now: number;
  state: "over" | "soon" | "in-time";
}

const HEIGHT = 64;
const BAR = 14;
const TOP = 22;
// Half of a date's width: those at both ends are not cut.
const EDGE = 36;
const FILLS = { over: "fill-blocked", soon: "fill-unsure", "in-time": "fill-clear" };

/** A span of time on its axis, with the moment of the survey on it. */
export function Span(props: Props) {
  return (
    <div style={{ height: HEIGHT }}>
      <ParentSize debounceTime={0}>
        {({ width }) => width > 0 && <Plot {...props} width={width} />}
      </ParentSize>
    </div>
  );
}

function Plot({ begins, ends, now, state, width }: Props & { width: number }) {
  // Whatever the span, both its ends and today lie within the picture.
  const room = (Math.max(ends, now) - Math.min(begins, now)) * 0.04;
  const x = scaleTime({
    domain: [(Math.min(begins, now) - room) * 1000, (Math.max(ends, now) + room) * 1000],
    range: [EDGE, width - EDGE],
  });
  const [from, to, today] = [x(begins * 1000), x(ends * 1000), x(now * 1000)];
  const passed = Math.max(0, Math.min(today, to) - from);
  const left = today > width / 2;
  return (
    <svg
      width={width}
      height={HEIGHT}
      role="img"
      aria-label={`From ${day(begins)} to ${day(ends)}; the survey was taken on ${day(now)}`}
    >
      <rect
        x={from}
        y={TOP}
        width={to - from}
        height={BAR}
        className={`${FILLS[state]} opacity-30`}
      />
      <rect x={from} y={TOP} width={passed} height={BAR} className={FILLS[state]} />
      <line
        x1={today}
        x2={today}
        y1={TOP - 6}
        y2={TOP + BAR + 6}
        className="stroke-ink"
        strokeWidth={2}
      />
      <text
        x={today}
        y={TOP - 9}
        dx={left ? 4 : -4}
        textAnchor={left ? "end" : "start"}
        className="fill-ink text-sm"
      >
        survey, {day(now)}
      </text>
      <AxisBottom
        {...AXIS}
        scale={x}
        top={TOP + BAR + 6}
        numTicks={Math.max(2, Math.floor(width / 130))}
        tickFormat={(at) => day(Number(at) / 1000)}
        tickLabelProps={() => ({ ...WORDS, textAnchor: "middle", dy: 2 })}
      />
    </svg>
  );
}
