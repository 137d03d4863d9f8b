import { count, size } from "../../lib/numbers";
import { Columns } from "../../ui/plots/Columns";
import { Bar } from "./Bar";
import { ORIGINS } from "./Passages";
import { share } from "./present";
import type { Figures, Row } from "./queries";
import { Save } from "./Save";

interface Props {
  figures: Figures;
  /** By key of a site: what it is called. */
  names: ReadonlyMap<string, string>;
  chooseSite: (key: string) => void;
}

const WEEKDAYS = ["Mon", "Tue", "Wed", "Thu", "Fri", "Sat", "Sun"];

// What is listed, in the order in which it is shown.
const LISTS: ReadonlyArray<readonly [key: string, title: string]> = [
  ["sites", "Sites"],
  ["pages", "Pages"],
  ["missing", "Not there"],
  ["astray", "Led to what is not there"],
  ["statuses", "Answers by status"],
  ["origins", "Where pages were reached from"],
  ["referrers", "Who led here"],
  ["hosts", "Names asked for"],
  ["agents", "Programs"],
  ["systems", "Systems"],
  ["kinds", "Kinds of files"],
  ["clients", "Visitors' addresses"],
  ["countries", "Countries"],
  ["slow", "Slowest"],
  ["large", "Largest answers"],
  ["methods", "Methods"],
  ["protocols", "Protocols"],
];

/** What the range adds up to: one sentence, then pictures that all follow range and filter. */
export function Numbers({ figures, names, chooseSite }: Props) {
  const { totals } = figures;
  const months = [...(figures.lists.months ?? [])].sort((a, b) => (a.text < b.text ? -1 : 1));
  return (
    <section aria-label="Figures" className="space-y-6 pb-6">
      <p className="max-w-4xl text-lg leading-snug">
        <b className="font-medium">{count(totals.requests)}</b> requests and{" "}
        <b className="font-medium">{size(totals.size)}</b> from {count(totals.clients)} addresses in{" "}
        {count(totals.visits)} visits; {count(totals.pages)} pages were shown.{" "}
        {share(totals.automatic, totals.requests)} of the requests come from programs that act by
        themselves, {share(totals.failed, totals.requests)} failed.
      </p>
      <div className="grid grid-cols-2 gap-x-8">
        <Columns
          title="By hour of the day"
          values={figures.by_hour}
          words={(number) => String(number).padStart(2, "0")}
        />
        <Columns
          title="By weekday"
          values={figures.by_weekday}
          words={(number) => WEEKDAYS[number] ?? ""}
        />
      </div>
      {months.length > 1 && (
        <Columns
          title="By month"
          values={months.map((row) => row.requests)}
          words={(number) => months[number]?.text ?? ""}
        />
      )}
      <div className="grid grid-cols-2 gap-x-8 gap-y-6">
        {LISTS.map(([key, title]) => {
          const rows = figures.lists[key];
          if (!rows?.length) return null;
          return (
            <List
              key={key}
              title={title}
              rows={rows}
              name={(text) => named(key, text, names)}
              choose={key === "sites" ? chooseSite : undefined}
              slow={key === "slow"}
              large={key === "large"}
            />
          );
        })}
      </div>
    </section>
  );
}

function named(list: string, text: string, names: Props["names"]): string {
  if (list === "sites") return names.get(text) ?? text;
  return list === "origins" ? (ORIGINS[text] ?? text) : text;
}

// Of thousands of sites.
const MOST_SHOWN = 200;

interface ListProps {
  title: string;
  rows: Row[];
  name: (text: string) => string;
  choose: ((text: string) => void) | undefined;
  slow: boolean;
  large: boolean;
}

function List({ title, rows, name, choose, slow, large }: ListProps) {
  const weight = (row: Row) => (slow ? (row.longest ?? 0) : large ? (row.size ?? 0) : row.requests);
  const most = Math.max(1, ...rows.map(weight));
  const told = (row: Row) =>
    slow
      ? `${((row.longest ?? 0) / 1000).toFixed(2)} s`
      : large
        ? size(row.size ?? 0)
        : count(row.requests);
  return (
    <section aria-label={title} className="min-w-0">
      <h3 className="flex items-baseline justify-between border-b border-line">
        {title}
        <Save
          name={title.toLowerCase()}
          rows={() => [
            ["what", "requests", "bytes", "longest in ms"],
            ...rows.map((r) => [name(r.text), r.requests, r.size ?? 0, r.longest ?? ""]),
          ]}
        />
      </h3>
      <ol>
        {rows.slice(0, MOST_SHOWN).map((row) => (
          <Bar key={row.text} share={weight(row) / most} told={told(row)}>
            {choose ? (
              <button
                type="button"
                onClick={() => choose(row.text)}
                className="mono cursor-pointer hover:underline"
              >
                {name(row.text)}
              </button>
            ) : (
              <span className="mono" title={row.text}>
                {name(row.text) || "(nothing)"}
              </span>
            )}
          </Bar>
        ))}
      </ol>
      {rows.length > MOST_SHOWN && (
        <p className="text-sm text-faint">
          and {count(rows.length - MOST_SHOWN)} more, which the saved list holds
        </p>
      )}
    </section>
  );
}
