import { AxisBottom, AxisLeft } from "@visx/axis";
import { Brush } from "@visx/brush";
import { curveStepAfter } from "@visx/curve";
import { scaleLinear, scaleUtc } from "@visx/scale";
import { AreaClosed } from "@visx/shape";
import { type PointerEvent, useMemo, useState } from "react";
import { count } from "../../lib/numbers";
import { AXIS, WORDS } from "../../ui/plots/axis";
import { Readable } from "../../ui/plots/Readable";
import { at, brushed, type Column, columns, type Range, tickWords, zoneWords } from "./present";
import type { Figures } from "./queries";

interface Props {
  figures: Figures;
  whole: Range;
  range: Range;
  /** Of the times that are shown, in seconds east of UTC. */
  zone: number;
  put: (range: Range | null) => void;
}

const HEIGHT = 168;
const LEFT = 52;
const RIGHT = 10;
const BOTTOM = 20;
// Where what was answered and what failed part.
const LINE = 104;

/** Requests over time: what was answered rises above the line, what failed hangs below it. */
export function Tide({ figures, whole, range, zone, put }: Props) {
  const [read, setRead] = useState<number | null>(null);
  const bars = useMemo(() => columns(figures.bands), [figures.bands]);
  const bar = read === null ? undefined : bars[read];
  const told = bar ? wordsOf(bar, zone) : "";
  return (
    <figure>
      <Readable
        label="Read requests over time"
        count={bars.length}
        at={read}
        read={setRead}
        words={told}
        height={HEIGHT}
        narrowest={240}
      >
        {(width) => (
          <Plot
            key={`${range.begin} ${range.end} ${width}`}
            {...{ figures, whole, range, zone, put, bars, read, setRead }}
            width={width}
          />
        )}
      </Readable>
      <figcaption className="mt-1 flex flex-wrap gap-x-5 text-sm text-faint">
        {told ? (
          <output className="text-ink">{told}</output>
        ) : (
          <>
            <Key className="bg-clear" words="answered" />
            <Key className="bg-diverted" words="sent on, or not changed since" />
            <Key className="bg-blocked/55" words="refused or not there" />
            <Key className="bg-blocked" words="the server's own fault" />
            <span className="ml-auto">
              requests in {widthWords(figures.width)}; times in {zoneWords(zone)}
            </span>
          </>
        )}
      </figcaption>
    </figure>
  );
}

interface PlotProps extends Props {
  width: number;
  bars: Column[];
  read: number | null;
  setRead: (at: number | null) => void;
}

function Plot({ figures, whole, range, zone, put, bars, read, setRead, width }: PlotProps) {
  const [shown, setShown] = useState(range);
  const x = scaleLinear({ domain: [whole.begin, whole.end], range: [LEFT, width - RIGHT] });
  // The brush counts from the left edge of what it can choose.
  const within = scaleLinear({ domain: x.domain(), range: [0, width - LEFT - RIGHT] });
  const most = Math.max(1, ...bars.map((bar) => bar.answered + bar.sent));
  const worst = Math.max(1, ...bars.map((bar) => bar.refused + bar.broken));
  const up = scaleLinear({ domain: [0, most], range: [LINE, 6], nice: 3 });
  const down = scaleLinear({ domain: [0, worst], range: [LINE, HEIGHT - BOTTOM - 2], nice: 2 });
  const days = scaleUtc({
    domain: [new Date((whole.begin + zone) * 1000), new Date((whole.end + zone) * 1000)],
    range: [LEFT, width - RIGHT],
  });
  const point = (event: PointerEvent<SVGSVGElement>) => {
    const box = event.currentTarget.getBoundingClientRect();
    const moment = x.invert(event.clientX - box.left);
    const place = Math.floor((moment - (bars[0]?.begin ?? 0)) / figures.width);
    setRead(bars[place] ? place : null);
  };
  const partial = shown.begin > whole.begin || shown.end < whole.end;
  const bar = read === null ? undefined : bars[read];
  return (
    <svg
      width={width}
      height={HEIGHT}
      role="img"
      aria-label={`Requests over time, at most ${most} at once, of failing ones ${worst}`}
      className="touch-none select-none"
      onPointerMove={point}
      onPointerLeave={() => setRead(null)}
    >
      <Areas {...{ bars, step: figures.width, x, up, down }} />
      <path d={`M${LEFT} ${LINE} H${width - RIGHT}`} className="stroke-ink" />
      <AxisLeft
        {...AXIS}
        scale={up}
        left={LEFT}
        numTicks={3}
        tickFormat={(value) => count(Number(value))}
        tickLabelProps={() => ({ ...WORDS, textAnchor: "end", dx: -4, dy: 3.5 })}
      />
      <AxisLeft
        {...AXIS}
        scale={down}
        left={LEFT}
        // The line itself is nought above it already.
        tickValues={down.ticks(2).slice(1)}
        tickFormat={(value) => count(Number(value))}
        tickLabelProps={() => ({
          ...WORDS,
          fill: "var(--color-blocked)",
          textAnchor: "end",
          dx: -4,
          dy: 3.5,
        })}
      />
      <AxisBottom
        {...AXIS}
        scale={days}
        top={HEIGHT - BOTTOM}
        numTicks={Math.max(2, Math.floor(width / 80))}
        tickFormat={(value) => tickWords(value as Date)}
        tickLabelProps={() => ({ ...WORDS, textAnchor: "middle", dy: 2 })}
      />
      {partial && (
        <g className="fill-paper/75">
          <rect
            x={LEFT}
            y={0}
            width={Math.max(0, x(shown.begin) - LEFT)}
            height={HEIGHT - BOTTOM}
          />
          <rect
            x={x(shown.end)}
            y={0}
            width={Math.max(0, width - RIGHT - x(shown.end))}
            height={HEIGHT - BOTTOM}
          />
        </g>
      )}
      {bar && (
        <path
          d={`M${x(bar.begin + figures.width / 2)} 0 V${HEIGHT - BOTTOM}`}
          className="stroke-ink"
          strokeDasharray="2 2"
        />
      )}
      <g transform={`translate(${LEFT} 0)`}>
        <Brush
          xScale={within}
          yScale={up}
          width={width - LEFT - RIGHT}
          height={HEIGHT - BOTTOM}
          margin={{ left: LEFT, right: RIGHT, top: 0, bottom: BOTTOM }}
          handleSize={8}
          resizeTriggerAreas={["left", "right"]}
          brushDirection="horizontal"
          useWindowMoveEvents
          initialBrushPosition={
            partial
              ? { start: { x: x(range.begin) - LEFT }, end: { x: x(range.end) - LEFT } }
              : undefined
          }
          selectedBoxStyle={{ fill: "transparent", stroke: "var(--color-ink)", strokeWidth: 1.5 }}
          onChange={(bounds) => setShown(bounds ? { begin: bounds.x0, end: bounds.x1 } : whole)}
          onBrushEnd={(bounds) =>
            put(bounds ? brushed(bounds.x0, bounds.x1, figures.width, whole) : null)
          }
          onClick={() => put(null)}
        />
      </g>
    </svg>
  );
}

interface AreasProps {
  bars: Column[];
  step: number;
  x: (moment: number) => number;
  up: ReturnType<typeof scaleLinear<number>>;
  down: ReturnType<typeof scaleLinear<number>>;
}

/** Steps along the line: those above, and those below. */
function Areas({ bars, step, x, up, down }: AreasProps) {
  const last = bars.at(-1);
  // The last step is as wide as the others.
  const steps = last ? [...bars, { ...last, begin: last.begin + step }] : [];
  const area = (className: string, scale: AreasProps["up"], of: (bar: Column) => number) => (
    <AreaClosed
      data={steps}
      x={(bar) => x(bar.begin)}
      y={(bar) => scale(of(bar))}
      y0={LINE}
      yScale={scale}
      curve={curveStepAfter}
      className={className}
    />
  );
  return (
    <>
      {area("fill-clear", up, (bar) => bar.answered + bar.sent)}
      {area("fill-diverted", up, (bar) => bar.sent)}
      {area("fill-blocked/55", down, (bar) => bar.refused + bar.broken)}
      {area("fill-blocked", down, (bar) => bar.broken)}
    </>
  );
}

function Key({ className, words }: { className: string; words: string }) {
  return (
    <span className="flex items-center gap-1.5">
      <span aria-hidden="true" className={`inline-block h-2.5 w-2.5 ${className}`} />
      {words}
    </span>
  );
}

function wordsOf(bar: Column, zone: number): string {
  return (
    `${at(bar.begin, zone)}: ${count(bar.answered)} answered, ${count(bar.sent)} sent on, ` +
    `${count(bar.refused)} refused or not there, ${count(bar.broken)} the server's own fault`
  );
}

function widthWords(width: number): string {
  if (width < 86_400) return width === 3600 ? "an hour" : `${width / 3600} hours`;
  return width === 86_400 ? "a day" : `${width / 86_400} days`;
}
