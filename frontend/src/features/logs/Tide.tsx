import { type PointerEvent, useRef, useState } from "react";
import { at, brushed, columns, count, midnights, type Range, zoneWords } from "./present";
import type { Figures } from "./queries";

interface Props {
  figures: Figures;
  whole: Range;
  range: Range;
  put: (range: Range | null) => void;
}

const WIDTH = 1000;
const HEIGHT = 132;
const LINE = 84;

/** Requests over time: what was answered rises above the line, what failed hangs below it. */
export function Tide({ figures, whole, range, put }: Props) {
  const chart = useRef<SVGSVGElement>(null);
  const [drag, setDrag] = useState<{ from: number; to: number } | null>(null);
  const bars = columns(figures.bands);
  const span = whole.end - whole.begin;
  const x = (moment: number) => ((moment - whole.begin) / span) * WIDTH;
  const most = Math.max(1, ...bars.map((bar) => bar.answered + bar.sent));
  const worst = Math.max(1, ...bars.map((bar) => bar.refused + bar.broken));
  const days = midnights(whole, figures.zone);
  const labelled = days.filter((moment) => moment < whole.end - span / 25);
  const step = (figures.width / span) * WIDTH;
  const momentAt = (event: PointerEvent) => {
    const box = chart.current?.getBoundingClientRect();
    if (!box) return whole.begin;
    const share = Math.min(1, Math.max(0, (event.clientX - box.left) / box.width));
    return whole.begin + share * span;
  };
  const begin = (event: PointerEvent) => {
    event.currentTarget.setPointerCapture(event.pointerId);
    const moment = momentAt(event);
    setDrag({ from: moment, to: moment });
  };
  const move = (event: PointerEvent) => drag && setDrag({ ...drag, to: momentAt(event) });
  const end = (event: PointerEvent) => {
    if (drag) put(brushed(drag.from, momentAt(event), figures.width, whole));
    setDrag(null);
  };
  const shown = drag
    ? { begin: Math.min(drag.from, drag.to), end: Math.max(drag.from, drag.to) }
    : range;
  const partial = shown.begin > whole.begin || shown.end < whole.end;
  const up = (value: number) => (value / most) * (LINE - 8);
  const down = (value: number) => (value / worst) * (HEIGHT - LINE - 18);
  return (
    <figure>
      <svg
        ref={chart}
        viewBox={`0 0 ${WIDTH} ${HEIGHT}`}
        preserveAspectRatio="none"
        role="img"
        aria-label={`Requests over time, at most ${most} at once, of failing ones ${worst}`}
        className="h-33 w-full cursor-crosshair touch-none select-none"
        onPointerDown={begin}
        onPointerMove={move}
        onPointerUp={end}
      >
        {days.map((moment) => (
          <path
            key={moment}
            d={`M${x(moment)} 0 V${HEIGHT - 14}`}
            className="stroke-line"
            strokeWidth="1"
            vectorEffect="non-scaling-stroke"
          />
        ))}
        <g className="fill-clear">
          <path d={area(bars, x, step, LINE, (bar) => -up(bar.answered + bar.sent))} />
        </g>
        <g className="fill-diverted">
          <path d={area(bars, x, step, LINE, (bar) => -up(bar.sent))} />
        </g>
        <g className="fill-blocked/55">
          <path d={area(bars, x, step, LINE, (bar) => down(bar.refused + bar.broken))} />
        </g>
        <g className="fill-blocked">
          <path d={area(bars, x, step, LINE, (bar) => down(bar.broken))} />
        </g>
        <path
          d={`M0 ${LINE} H${WIDTH}`}
          className="stroke-ink"
          strokeWidth="1"
          vectorEffect="non-scaling-stroke"
        />
        {partial && (
          <g>
            <rect x="0" y="0" width={x(shown.begin)} height={HEIGHT} className="fill-paper/75" />
            <rect
              x={x(shown.end)}
              y="0"
              width={WIDTH - x(shown.end)}
              height={HEIGHT}
              className="fill-paper/75"
            />
            <path
              d={`M${x(shown.begin)} 0 V${HEIGHT} M${x(shown.end)} 0 V${HEIGHT}`}
              className="stroke-ink"
              strokeWidth="1.5"
              vectorEffect="non-scaling-stroke"
            />
          </g>
        )}
      </svg>
      <div className="relative -mt-3.5 h-4 text-xs text-faint">
        {labelled.map((moment) => (
          <span
            key={moment}
            className="mono absolute pl-1"
            style={{ left: `${((moment - whole.begin) / span) * 100}%` }}
          >
            {at(moment, figures.zone).slice(5, 10)}
          </span>
        ))}
      </div>
      <figcaption className="mt-1 flex flex-wrap gap-x-5 text-sm text-faint">
        <Key className="bg-clear" words="answered" />
        <Key className="bg-diverted" words="sent on, or not changed since" />
        <Key className="bg-blocked/55" words="refused or not there" />
        <Key className="bg-blocked" words="the server's own fault" />
        <span className="ml-auto">
          above the line up to {count(most)}, below it up to {count(worst)} in{" "}
          {widthWords(figures.width)}; times in {zoneWords(figures.zone)}
        </span>
      </figcaption>
    </figure>
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

function widthWords(width: number): string {
  if (width < 86_400) return width === 3600 ? "an hour" : `${width / 3600} hours`;
  return width === 86_400 ? "a day" : `${width / 86_400} days`;
}

type Bar = ReturnType<typeof columns>[number];

/** Steps along the line, closed to an area. */
function area(
  bars: Bar[],
  x: (moment: number) => number,
  step: number,
  line: number,
  height: (bar: Bar) => number,
): string {
  if (!bars.length) return "";
  const tops = bars.map((bar) => {
    const left = x(bar.begin);
    const y = (line + height(bar)).toFixed(2);
    return `L${left.toFixed(2)} ${y} L${(left + step).toFixed(2)} ${y}`;
  });
  const first = x(bars[0]?.begin ?? 0);
  const last = x(bars.at(-1)?.begin ?? 0) + step;
  return `M${first} ${line} ${tops.join(" ")} L${last} ${line} Z`;
}
