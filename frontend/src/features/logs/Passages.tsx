import { ParentSize } from "@visx/responsive";
import { scaleLinear } from "@visx/scale";
import { LinkHorizontal } from "@visx/shape";
import { count } from "../../lib/numbers";
import { Bar } from "./Bar";
import type { Figures, Row } from "./queries";

export const ORIGINS: Record<string, string> = {
  none: "from nowhere that is told",
  inside: "from this site",
  search: "from a search",
  outside: "from another site",
};
const ROW = 22;
const MOST = 12;
const CROSSINGS = 18; // that are drawn; more would hide each other

/** How visitors go: from where, on which page they enter, from page to page, and where they leave. */
export function Passages({ figures, whole }: { figures: Figures; whole: boolean }) {
  const { ways } = figures;
  if (whole) {
    return <p className="py-8">Choose a site: the way through the pages is one site's.</p>;
  }
  if (!ways.entries.length) return <p className="py-8">Nobody saw a page in this range.</p>;
  return (
    <section aria-label="Ways" className="grid grid-cols-[13rem_minmax(0,1fr)_13rem] gap-8 pb-6">
      <div className="space-y-6">
        <Ends title="They come" rows={ways.origins} words={(text) => ORIGINS[text] ?? text} />
        <Ends title="enter on" rows={ways.entries} mono />
      </div>
      <Steps steps={ways.steps} />
      <Ends title="and leave from" rows={ways.exits} mono />
    </section>
  );
}

interface EndsProps {
  title: string;
  rows: Row[];
  words?: (text: string) => string;
  mono?: boolean;
}

function Ends({ title, rows, words = (text) => text, mono = false }: EndsProps) {
  const most = Math.max(1, ...rows.map((row) => row.requests));
  return (
    <section aria-label={title}>
      <h3 className="border-b border-line text-lg">{title}</h3>
      <ol>
        {rows.map((row) => (
          <Bar key={row.text} share={row.requests / most} told={count(row.requests)}>
            <span className={mono ? "mono" : ""} title={row.text}>
              {words(row.text)}
            </span>
          </Bar>
        ))}
      </ol>
    </section>
  );
}

type Step = Figures["ways"]["steps"][number];

interface End {
  x: number;
  y: number;
}

/** Pages on both banks, and the crossings between them, as broad as they are frequent. */
function Steps({ steps }: { steps: Figures["ways"]["steps"] }) {
  const busiest = steps.slice(0, CROSSINGS);
  const from = ranked(busiest.map((step) => [step.come, step.visits]));
  const to = ranked(busiest.map((step) => [step.go, step.visits]));
  const drawn = busiest.filter((step) => from.includes(step.come) && to.includes(step.go));
  const most = Math.max(1, ...drawn.map((step) => step.visits));
  const broad = scaleLinear({ domain: [0, most], range: [1, 10] });
  const height = Math.max(from.length, to.length) * ROW;
  if (!drawn.length) {
    return <p className="text-faint">Nobody went from one page to another in this range.</p>;
  }
  const y = (place: number) => place * ROW + ROW / 2;
  const ends = (step: Step, width: number) => ({
    source: { x: 4, y: y(from.indexOf(step.come)) },
    target: { x: Math.max(40, width) - 4, y: y(to.indexOf(step.go)) },
  });
  return (
    <section aria-label="From page to page" className="min-w-0">
      <h3 className="border-b border-line text-lg">go from page to page</h3>
      <div className="grid grid-cols-[minmax(0,1fr)_minmax(0,1.1fr)_minmax(0,1fr)]">
        <Bank pages={from} right />
        <ParentSize debounceTime={50} style={{ height }} initialSize={{ width: 260, height }}>
          {({ width }) => (
            <svg
              width={Math.max(40, width)}
              height={height}
              role="img"
              aria-label={drawn
                .slice(0, MOST)
                .map((step) => `${step.come} to ${step.go} ${step.visits}`)
                .join(", ")}
              className="block"
            >
              {drawn.map((step) => (
                <LinkHorizontal
                  key={`${step.come} ${step.go}`}
                  data={ends(step, width)}
                  x={(end: End) => end.x}
                  y={(end: End) => end.y}
                >
                  {({ path }) => (
                    <path
                      d={path(ends(step, width)) ?? ""}
                      fill="none"
                      strokeWidth={broad(step.visits)}
                      className="stroke-clear/45 hover:stroke-ink"
                    >
                      <title>{`${step.come} to ${step.go}: ${count(step.visits)}`}</title>
                    </path>
                  )}
                </LinkHorizontal>
              ))}
            </svg>
          )}
        </ParentSize>
        <Bank pages={to} />
      </div>
      <details className="mt-3 text-sm">
        <summary className="cursor-pointer text-faint">as a list</summary>
        <ol>
          {steps.slice(0, 20).map((step) => (
            <li key={`${step.come} ${step.go}`}>
              <span className="mono">{step.come}</span> to <span className="mono">{step.go}</span>:{" "}
              {count(step.visits)}
            </li>
          ))}
        </ol>
      </details>
    </section>
  );
}

function Bank({ pages, right = false }: { pages: string[]; right?: boolean }) {
  return (
    <ol>
      {pages.map((page) => (
        <li
          key={page}
          className={`mono h-[22px] truncate leading-[22px] ${right ? "pr-1 text-right" : "pl-1"}`}
          title={page}
        >
          {page}
        </li>
      ))}
    </ol>
  );
}

/** The most frequent first, each once. */
function ranked(pairs: ReadonlyArray<readonly [string, number]>): string[] {
  const sums = new Map<string, number>();
  for (const [page, visits] of pairs) sums.set(page, (sums.get(page) ?? 0) + visits);
  return [...sums]
    .sort((one, two) => two[1] - one[1])
    .slice(0, MOST)
    .map(([page]) => page);
}
