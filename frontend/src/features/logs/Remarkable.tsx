import { useQuery } from "@tanstack/react-query";
import type { ReactNode } from "react";
import { count } from "../../lib/numbers";
import { at, peaks, type Range, share } from "./present";
import { type Asked, type Figures, figuresQuery } from "./queries";

interface Props {
  asked: Asked;
  zone: number;
  names: Map<string, string>;
  brush: (range: Range) => void;
  chooseSite: (key: string) => void;
}

/** What stands out in the range, as long as nothing is chosen. */
export function Remarkable({ asked, zone, names, brush, chooseSite }: Props) {
  const found = useQuery(figuresQuery(asked));
  if (!found.data?.totals.requests) return null;
  const { totals, width, bands, lists } = found.data;
  const { failing, busiest } = peaks(bands, width);
  const [site] = lists.sites ?? [];
  const moment = (begin: number) => (
    <Pick choose={() => brush({ begin, end: begin + width })}>{at(begin, zone)}</Pick>
  );
  return (
    <section aria-label="What stands out" className="mb-6 space-y-3">
      <h2 className="text-xl font-medium">What stands out</h2>
      <p>
        Of {count(totals.requests)} requests {share(totals.failed, totals.requests)} failed.
      </p>
      {failing && (
        <p className="border-l-2 border-blocked pl-3">
          Worst from {moment(failing.begin)}: of {count(failing.requests)} requests in{" "}
          {spanWords(width)} {share(failing.failed, failing.requests)} failed
          {failing.usual !== null && `, usually ${share(failing.usual, 1)}`}.
        </p>
      )}
      {busiest && (
        <p className="border-l-2 border-line pl-3">
          Busiest from {moment(busiest.begin)}: {count(busiest.requests)} requests in{" "}
          {spanWords(width)}, {busiest.times.toFixed(1)} times as many as usual.
        </p>
      )}
      {site && site.requests > totals.requests / 10 && (
        <p className="border-l-2 border-line pl-3">
          Most asked for:{" "}
          <Pick choose={() => chooseSite(site.text)}>{names.get(site.text) ?? site.text}</Pick>,{" "}
          {share(site.requests, totals.requests)} of all requests.
        </p>
      )}
      <Programs totals={totals} />
    </section>
  );
}

function Programs({ totals }: { totals: Figures["totals"] }) {
  if (totals.automatic < totals.requests / 5) return null;
  return (
    <p className="border-l-2 border-line pl-3">
      {share(totals.automatic, totals.requests)} came from programs, not from people.
    </p>
  );
}

function spanWords(width: number): string {
  const hours = width / 3600;
  if (hours === 1) return "an hour";
  return hours < 48 ? `${hours} hours` : `${Math.round(hours / 24)} days`;
}

function Pick({ choose, children }: { choose: () => void; children: ReactNode }) {
  return (
    <button
      type="button"
      onClick={choose}
      className="mono cursor-pointer text-left wrap-anywhere underline decoration-line underline-offset-3 hover:decoration-ink"
    >
      {children}
    </button>
  );
}
