import { useQuery, useQueryClient } from "@tanstack/react-query";
import { useEffect, useState } from "react";
import { useSearchParams } from "react-router";
import { sessionQuery } from "../../api/session";
import { usePut } from "../../lib/params";
import { Button } from "../../ui/Button";
import { Choice } from "../../ui/Choice";
import { Failed, Note, Waiting } from "../../ui/States";
import { CausePane } from "./CausePane";
import { Causes } from "./Causes";
import { LinePane } from "./LinePane";
import { Lines, lineKey } from "./Lines";
import { Numbers } from "./Numbers";
import { Passages } from "./Passages";
import { at, fromField, ownZone, type Range, rangeOf, wholeRange, zoneWords } from "./present";
import {
  type Asked,
  failuresQuery,
  figuresQuery,
  isReading,
  type Logs,
  logsQuery,
  type RawLine,
  readNow,
  type Who,
} from "./queries";
import { Remarkable } from "./Remarkable";
import { SiteChoice } from "./SiteChoice";
import { Sources } from "./Sources";
import { Tide } from "./Tide";

const VIEWS = [
  ["why", "why they failed"],
  ["figures", "figures"],
  ["ways", "ways"],
  ["lines", "lines"],
] as const;
const ANSWERS = [
  ["", "all"],
  ["200", "answered"],
  ["300", "sent on"],
  ["400,500", "failed"],
] as const;
const ADDRESSES = [
  ["short", "shortened"],
  ["whole", "whole"],
] as const;
const WHOS = [
  ["everybody", "everybody"],
  ["people", "people"],
  ["automatic", "programs"],
] as const;

/** What visitors met, and why. */
export function LogsPage() {
  const logs = useQuery(logsQuery);
  useFresh(logs.data);
  if (logs.isPending) return <Waiting>Opening the logs</Waiting>;
  if (logs.isError) return <Failed error={logs.error} retry={logs.refetch} />;
  const { first, last, here } = logs.data.logs;
  if (first === null || last === null) {
    if (isReading(logs.data)) return <Reading logs={logs.data} />;
    return <Nothing here={here} logs={logs.data} />;
  }
  return <Open logs={logs.data} whole={wholeRange(first, last)} />;
}

/** When a job has read something, what is shown is asked for again. */
function useFresh(logs: Logs | undefined) {
  const queries = useQueryClient();
  const reading = isReading(logs);
  const lines = logs?.logs.lines;
  useEffect(() => {
    for (const part of ["figures", "failures", "lines"]) {
      queries.invalidateQueries({ queryKey: ["logs", part] });
    }
  }, [reading, lines]);
}

function Reading({ logs }: { logs: Logs }) {
  const { job } = logs;
  return (
    <Note title="The logs are being read">
      <p role="status">
        {job?.doing}
        {job?.total ? ` (${job.done} of ${job.total})` : ""}
      </p>
    </Note>
  );
}

function Nothing({ here, logs }: { here: boolean; logs: Logs }) {
  if (!here) {
    return (
      <Note title="The logs are elsewhere">
        <p>
          This survey is of another machine, where its logs lie. Run <code>ecumen serve</code> there
          to see them, or count a log that you copied with <code>ecumen tally</code>.
        </p>
      </Note>
    );
  }
  return (
    <Note title="No line has been read">
      {logs.job?.error ? <p className="text-blocked">{logs.job.error}</p> : null}
      <p>The logs that the configuration names are empty, or may not be read.</p>
      <Button onClick={() => readNow()}>Read them now</Button>
      <Sources logs={logs} />
    </Note>
  );
}

function Open({ logs, whole }: { logs: Logs; whole: Range }) {
  const [params, setParams] = useSearchParams();
  const put = usePut();
  const [line, setLine] = useState<RawLine | null>(null);
  const chooseLine = (next: RawLine) => {
    setLine(next);
    put("line", lineKey(next), true);
  };
  const range = rangeOf(params.get("from"), params.get("to"), whole);
  const site = params.get("site") ?? "";
  const classes = params.get("answers") ?? "";
  const who = (params.get("who") ?? "everybody") as Who;
  const view = params.get("view") ?? "why";
  const words = params.get("words") ?? "";
  const session = useQuery(sessionQuery);
  const administers = session.data?.administers ?? false;
  const asked: Asked = {
    ...range,
    site,
    classes,
    who,
    whole: administers && params.get("addresses") === "whole",
  };
  const overview = useQuery(figuresQuery({ ...whole, site, classes: "", who, whole: false }));
  const mine = params.get("times") === "mine";
  const zone = mine ? ownZone(whole.end) : logs.logs.zone;
  const brush = (next: Range | null) => {
    const kept = new URLSearchParams(window.location.search);
    for (const key of ["from", "to"]) kept.delete(key);
    if (next && (next.begin > whole.begin || next.end < whole.end)) {
      kept.set("from", String(next.begin));
      kept.set("to", String(next.end));
    }
    setParams(kept);
  };
  return (
    <div className="grid h-full grid-cols-[1fr_24rem]">
      <section aria-label="Time" className="flex min-h-0 flex-col">
        <h1 className="sr-only">Logs</h1>
        <div className="space-y-2 border-b border-line px-5 py-3">
          <Filters
            logs={logs}
            asked={asked}
            whole={whole}
            brush={brush}
            put={put}
            administers={administers}
            view={view}
            zone={zone}
          />
          {overview.data ? (
            <Tide figures={overview.data} whole={whole} range={range} zone={zone} put={brush} />
          ) : (
            <Waiting>Adding up</Waiting>
          )}
        </div>
        <div className="min-h-0 flex-1 overflow-auto px-5 py-3">
          <View
            asked={asked}
            logs={logs}
            zone={zone}
            view={view}
            words={words}
            chosenLine={line}
            chooseLine={chooseLine}
          />
        </div>
      </section>
      <aside
        aria-label="Evidence"
        className="min-h-0 overflow-auto border-l border-line bg-sheet px-5 py-4"
      >
        {view === "lines" && line ? (
          <LinePane line={line} zone={zone} />
        ) : (
          <Pane
            asked={asked}
            logs={logs}
            zone={zone}
            chosen={params.get("cause")}
            shown={view === "why"}
            brush={brush}
            chooseSite={(key) => put("site", key)}
          />
        )}
      </aside>
    </div>
  );
}

interface FiltersProps {
  logs: Logs;
  asked: Asked;
  whole: Range;
  brush: (range: Range | null) => void;
  put: (key: string, value: string) => void;
  view: string;
  administers: boolean;
  zone: number;
}

/** The one range and the one filter that everything below follows. */
function Filters({ logs, asked, whole, brush, put, view, administers, zone }: FiltersProps) {
  const { owners } = logs.logs;
  const own = ownZone(whole.end);
  const partial = asked.begin > whole.begin || asked.end < whole.end;
  const edge = (key: "begin" | "end", text: string) => {
    const moment = fromField(text, zone);
    if (moment !== null) {
      const next = { begin: asked.begin, end: asked.end, [key]: moment };
      if (next.begin < next.end) brush(next);
    }
  };
  return (
    <>
      <div className="flex flex-wrap items-baseline gap-x-5 gap-y-1">
        <div className="flex items-baseline gap-2">
          <span className="text-sm text-faint">of</span>
          <SiteChoice owners={owners} value={asked.site} choose={(key) => put("site", key)} />
        </div>
        <span className="flex items-baseline gap-2 text-sm">
          <Moment label="From" at={asked.begin} zone={zone} put={(text) => edge("begin", text)} />
          <span className="text-faint">to</span>
          <Moment label="To" at={asked.end} zone={zone} put={(text) => edge("end", text)} />
          {own === logs.logs.zone ? (
            <span className="text-faint">{zoneWords(zone)}</span>
          ) : (
            <button
              type="button"
              aria-label={`Times in ${zoneWords(zone)}: show them in ${zoneWords(zone === own ? logs.logs.zone : own)}`}
              onClick={() => put("times", zone === own ? "" : "mine")}
              className="cursor-pointer text-faint underline decoration-line underline-offset-3"
            >
              {zoneWords(zone)}
            </button>
          )}
          {partial && (
            <button
              type="button"
              onClick={() => brush(null)}
              className="cursor-pointer underline decoration-line underline-offset-3"
            >
              all of it
            </button>
          )}
        </span>
        <Live logs={logs} />
      </div>
      <div className="flex flex-wrap items-baseline gap-x-6 gap-y-1">
        <Choice
          words="show"
          label="Show"
          value={view}
          options={VIEWS}
          choose={(value) => put("view", value === "why" ? "" : value)}
        />
        <Choice
          words="requests"
          label="Requests"
          value={asked.classes}
          options={ANSWERS}
          choose={(value) => put("answers", value)}
        />
        {administers && (view === "figures" || view === "lines") && (
          <Choice
            words="addresses"
            label="Addresses"
            value={asked.whole ? "whole" : "short"}
            options={ADDRESSES}
            choose={(value) => put("addresses", value === "whole" ? value : "")}
          />
        )}
        {(view === "figures" || view === "ways") && (
          <Choice
            words="of"
            label="Of whom"
            value={asked.who}
            options={WHOS}
            choose={(value) => put("who", value === "everybody" ? "" : value)}
          />
        )}
      </div>
    </>
  );
}

interface MomentProps {
  label: string;
  at: number;
  zone: number;
  put: (text: string) => void;
}

function Moment({ label, at: moment, zone, put }: MomentProps) {
  const shown = at(moment, zone);
  const [text, setText] = useState(shown);
  useEffect(() => setText(shown), [shown]);
  const commit = () => (text === shown ? null : put(text));
  return (
    <input
      aria-label={label}
      value={text}
      size={16}
      spellCheck={false}
      onChange={(event) => setText(event.target.value)}
      onBlur={commit}
      onKeyDown={(event) => event.key === "Enter" && commit()}
      className="mono border-b border-line bg-transparent"
    />
  );
}

/** New lines while one looks; and how far a longer reading is. */
function Live({ logs }: { logs: Logs }) {
  const [live, setLive] = useState(false);
  const queries = useQueryClient();
  useEffect(() => {
    if (!live) return;
    const read = async () => {
      await readNow();
      await queries.invalidateQueries({ queryKey: ["logs", "state"] });
    };
    read();
    const timer = setInterval(read, 3000);
    return () => clearInterval(timer);
  }, [live, queries]);
  return (
    <span className="ml-auto flex items-baseline gap-4 text-sm">
      {isReading(logs) && !live && (
        <span role="status" className="text-faint">
          {logs.job?.doing}
        </span>
      )}
      <label className="flex items-baseline gap-1.5">
        <input type="checkbox" checked={live} onChange={() => setLive(!live)} />
        live
      </label>
    </span>
  );
}

interface ViewProps {
  asked: Asked;
  logs: Logs;
  zone: number;
  view: string;
  words: string;
  chosenLine: RawLine | null;
  chooseLine: (line: RawLine) => void;
}

function View({ asked, logs, zone, view, words, chosenLine, chooseLine }: ViewProps) {
  const [params] = useSearchParams();
  const put = usePut();
  const { owners } = logs.logs;
  const figures = useQuery({
    ...figuresQuery(asked),
    enabled: view === "figures" || view === "ways",
  });
  const failures = useQuery({ ...failuresQuery(asked), enabled: view === "why" });
  switch (view) {
    case "figures":
    case "ways": {
      if (figures.isPending) return <Waiting>Adding up</Waiting>;
      if (figures.isError) return <Failed error={figures.error} retry={figures.refetch} />;
      if (view === "ways") return <Passages figures={figures.data} whole={!asked.site} />;
      const names = new Map(owners.map((owner) => [owner.key, owner.name]));
      return (
        <Numbers figures={figures.data} names={names} chooseSite={(key) => put("site", key)} />
      );
    }
    case "lines":
      return (
        <Lines
          asked={asked}
          zone={zone}
          words={words}
          putWords={(text) => put("words", text, true)}
          chosen={chosenLine}
          wanted={params.get("line")}
          choose={chooseLine}
        />
      );
    default:
      if (failures.isPending) return <Waiting>Finding the causes</Waiting>;
      if (failures.isError) return <Failed error={failures.error} retry={failures.refetch} />;
      return (
        <Causes
          failures={failures.data}
          zone={zone}
          whole={!asked.site}
          chosen={params.get("cause")}
          choose={(key) => put("cause", key)}
        />
      );
  }
}

interface PaneProps {
  asked: Asked;
  logs: Logs;
  zone: number;
  chosen: string | null;
  shown: boolean;
  brush: (range: Range) => void;
  chooseSite: (key: string) => void;
}

function Pane({ asked, logs, zone, chosen, shown, brush, chooseSite }: PaneProps) {
  const failures = useQuery({ ...failuresQuery(asked), enabled: shown });
  const group = shown ? failures.data?.groups.find((each) => each.key === chosen) : undefined;
  if (group) return <CausePane group={group} zone={zone} />;
  const names = new Map(logs.logs.owners.map((owner) => [owner.key, owner.name]));
  return (
    <>
      <Remarkable asked={asked} zone={zone} names={names} brush={brush} chooseSite={chooseSite} />
      <Sources logs={logs} />
    </>
  );
}
