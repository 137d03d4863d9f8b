import { AxisBottom, AxisLeft } from "@visx/axis";
import { scaleBand, scaleLinear } from "@visx/scale";
import { Bar } from "@visx/shape";
import { useState } from "react";
import { count } from "../../lib/numbers";
import { AXIS, WORDS } from "./axis";
import { Readable } from "./Readable";

interface Props {
  title: string;
  values: number[];
  words: (number: number) => string;
}

const HEIGHT = 112;
const LEFT = 46;
const BOTTOM = 20;
const LETTER = 8;

/** One column for each value, with an axis of values; what one holds is told when it is read. */
export function Columns({ title, values, words }: Props) {
  const [read, setRead] = useState<number | null>(null);
  const told = read === null ? "" : `${words(read)}: ${count(values[read] ?? 0)}`;
  return (
    <figure>
      <figcaption className="mb-1 flex items-baseline justify-between text-sm text-faint">
        {title}
        <output className="text-ink">{told}</output>
      </figcaption>
      <Readable
        label={`Read ${title.toLowerCase()}`}
        count={values.length}
        at={read}
        read={setRead}
        words={told}
        height={HEIGHT}
        narrowest={120}
      >
        {(width) => <Plot {...{ title, values, words, read, setRead }} width={width} />}
      </Readable>
    </figure>
  );
}

interface PlotProps extends Props {
  width: number;
  read: number | null;
  setRead: (at: number | null) => void;
}

function Plot({ title, values, words, width, read, setRead }: PlotProps) {
  const places = values.map((_, at) => at);
  const x = scaleBand({ domain: places, range: [LEFT, width], padding: 0.25 });
  const y = scaleLinear({
    domain: [0, Math.max(1, ...values)],
    range: [HEIGHT - BOTTOM, 6],
    nice: 3,
  });
  const longest = Math.max(1, ...places.map((at) => words(at).length));
  // Words thin out where they would touch.
  const every = Math.max(1, Math.ceil((longest * LETTER) / Math.max(1, x.step())));
  return (
    <svg
      width={width}
      height={HEIGHT}
      role="img"
      aria-label={`${title}: ${values.map((value, at) => `${words(at)} ${value}`).join(", ")}`}
      onPointerLeave={() => setRead(null)}
    >
      <AxisLeft
        {...AXIS}
        scale={y}
        left={LEFT}
        numTicks={3}
        tickFormat={(value) => count(Number(value))}
        tickLabelProps={() => ({ ...WORDS, textAnchor: "end", dx: -4, dy: 3.5 })}
      />
      {values.map((value, at) => (
        <Bar
          key={words(at)}
          x={x(at)}
          y={y(value)}
          width={x.bandwidth()}
          height={Math.max(0, HEIGHT - BOTTOM - y(value))}
          className={read === at ? "fill-ink" : "fill-clear"}
        />
      ))}
      {values.map((_, at) => (
        <rect
          key={words(at)}
          x={(x(at) ?? 0) - (x.step() * x.padding()) / 2}
          y={0}
          width={x.step()}
          height={HEIGHT}
          fill="transparent"
          onPointerEnter={() => setRead(at)}
        />
      ))}
      <AxisBottom
        {...AXIS}
        stroke="var(--color-ink)"
        scale={x}
        top={HEIGHT - BOTTOM}
        hideTicks
        tickValues={places.filter((at) => at % every === 0)}
        tickFormat={(at) => words(Number(at))}
        tickLabelProps={() => ({ ...WORDS, textAnchor: "middle", dy: 2 })}
      />
    </svg>
  );
}
