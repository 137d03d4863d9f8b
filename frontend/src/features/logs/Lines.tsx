import { useQuery } from "@tanstack/react-query";
import { useEffect, useState } from "react";
import { Button } from "../../ui/Button";
import { OnlyWith } from "../../ui/OnlyWith";
import { Failed, Waiting } from "../../ui/States";
import { at, atSecond, zoneWords } from "./present";
import { type Asked, linesQuery, type RawLine } from "./queries";
import { Save } from "./Save";

interface Props {
  asked: Asked;
  zone: number;
  words: string;
  putWords: (words: string) => void;
  chosen: RawLine | null;
  /** Which line an address names. */
  wanted: string | null;
  choose: (line: RawLine) => void;
}

const PAGE = 100;
const MOST = 2000;

/** Which line: its file, and where in it. */
export function lineKey(line: RawLine): string {
  return `${line.path}:${line.offset}`;
}

/** The lines themselves, the last first. */
export function Lines({ asked, zone, words, putWords, chosen, wanted, choose }: Props) {
  const [limit, setLimit] = useState(PAGE);
  const [end, setEnd] = useState(asked.end);
  const range = `${asked.begin} ${asked.end} ${asked.site} ${asked.classes} ${words}`;
  useEffect(() => {
    setLimit(PAGE);
    setEnd(asked.end);
  }, [range]);
  const found = useQuery(linesQuery({ ...asked, end }, words, limit));
  const lines = found.data?.lines ?? [];
  const key = chosen ? lineKey(chosen) : wanted;
  // As it was last read: an address that is asked for whole stands in a new line.
  const named = lines.find((line) => lineKey(line) === key);
  useEffect(() => {
    if (named && named !== chosen) choose(named);
  }, [named, chosen, choose]);
  const reached = found.data?.searched_to ?? null;
  const full = lines.length >= limit;
  const further = () => {
    if (full && limit < MOST) setLimit(Math.min(MOST, limit * 4));
    else if (reached !== null) setEnd(full ? reached + 1 : reached);
  };
  return (
    <section aria-label="Lines">
      <div className="flex items-baseline gap-5 pb-2">
        <OnlyWith words={words} put={putWords} />
        <span className="ml-auto text-sm text-faint">
          {lines.length} lines, the last first
          {end < asked.end ? `, before ${at(end, zone)}` : ""}
        </span>
        <Save name="lines" rows={() => table(lines, zone)} />
      </div>
      {found.isPending && <Waiting>Reading the lines</Waiting>}
      {found.isError && <Failed error={found.error} retry={found.refetch} />}
      <ol>
        {lines.map((line) => (
          <li key={lineKey(line)}>
            <button
              type="button"
              aria-pressed={key === lineKey(line)}
              onClick={() => choose(line)}
              className="mono grid w-full cursor-pointer grid-cols-[7.2rem_2.4rem_minmax(0,1fr)] gap-2 border-b border-line py-0.5 text-left hover:bg-shoal aria-pressed:bg-shoal"
            >
              <span className="text-faint">{atSecond(line.at, zone).slice(5)}</span>
              <span className={tone(line.status)}>{line.status || "-"}</span>
              <span className="truncate">
                {line.site} {line.method} {line.target}{" "}
                <span className="text-faint">
                  {line.client} {line.agent}
                </span>
              </span>
            </button>
          </li>
        ))}
      </ol>
      {found.data && !lines.length && reached === null && (
        <p className="py-6 text-faint">No line of this range holds that.</p>
      )}
      {found.data && (full || reached !== null) && (
        <p className="flex items-baseline gap-4 py-3">
          <Button onClick={further}>
            {full ? "Show more" : `Go on before ${reached ? at(reached, zone) : ""}`}
          </Button>
          {!full && <span className="text-faint">Looked back to there so far.</span>}
        </p>
      )}
    </section>
  );
}

function tone(status: number): string {
  if (status >= 500) return "font-bold text-blocked";
  if (status >= 400) return "text-blocked";
  return status >= 300 ? "text-diverted" : "text-clear";
}

function table(lines: RawLine[], zone: number) {
  return [
    ["time", "site", "client", "method", "target", "status", "bytes", "referrer", "agent"],
    ...lines.map((line) => [
      `${atSecond(line.at, zone)} ${zoneWords(zone)}`,
      line.site,
      line.client,
      line.method,
      line.target,
      line.status,
      line.size,
      line.referrer,
      line.agent,
    ]),
  ];
}
