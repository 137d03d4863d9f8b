import { useQuery } from "@tanstack/react-query";
import { Link } from "react-router";
import { client, type Schemas, take } from "../../api/client";
import { cut, plural } from "../../lib/text";
import { AddToPlan } from "../../ui/AddToPlan";
import { Failed, Note, Waiting } from "../../ui/States";
import { SinceRead } from "./SinceRead";

type Engine = Schemas["EngineView"];
type State = Schemas["EngineState"];

/** The engines: what runs, as whom, what it has read and when, and what it may be told. */
export function EnginesPage() {
  const found = useQuery({
    queryKey: ["engines"],
    queryFn: async () =>
      take(
        await client.GET("/api/surveys/{survey}/engines", {
          params: { path: { survey: "latest" } },
        }),
      ),
  });
  if (found.isPending) return <Waiting>Looking at what runs</Waiting>;
  if (found.isError) return <Failed error={found.error} retry={found.refetch} />;
  if (!found.data.length) {
    return (
      <Note title="No engine">
        <p>The survey found no web server that Ecumen reads.</p>
      </Note>
    );
  }
  return (
    <div className="h-full overflow-auto px-5 py-4">
      <h1 className="sr-only">Engines</h1>
      <div className="grid max-w-7xl grid-cols-[repeat(auto-fit,minmax(30rem,1fr))] gap-x-12 gap-y-8">
        {found.data.map((engine) => (
          <One key={engine.state.config} engine={engine} />
        ))}
      </div>
    </div>
  );
}

function One({ engine }: { engine: Engine }) {
  const { state, tell, requests_a_day: asked } = engine;
  return (
    <article aria-label={state.kind} className="min-w-0">
      <h2 className="flex items-baseline gap-3 border-b border-ink pb-1 text-2xl font-medium">
        {state.kind}
        <span className="mono text-base font-normal text-faint">{state.version}</span>
        <span className={`ml-auto text-lg ${RUNS[String(state.running)]?.[1] ?? "text-unsure"}`}>
          {RUNS[String(state.running)]?.[0] ?? "whether it runs is not known"}
        </span>
      </h2>
      <p className="mt-2">
        {state.running === false ? "Would serve" : "Serves"} {plural(state.sites, "site")}
        {asked !== null && `, ${plural(asked, "request")} a day`}
        {state.account && (
          <>
            , as <span className="mono">{cut(state.account, 32)}</span>
          </>
        )}
        {state.domain && (
          <>
            {" "}
            in <span className="mono">{cut(state.domain, 40)}</span>
          </>
        )}
        .
      </p>
      <Doors doors={state.doors} />
      <Configuration state={state} />
      <SinceRead state={state} />
      <Unread files={state.unread} />
      <section aria-label={`Tell ${state.kind}`} className="mt-4 flex flex-wrap gap-x-3">
        {tell.map((each) => (
          <AddToPlan
            key={each.what}
            what={{
              operations: [each.operation],
              title: `${each.words[0]?.toUpperCase()}${each.words.slice(1)}`,
            }}
            label={`Plan to ${TELL[each.what] ?? each.words}`}
          />
        ))}
      </section>
      {state.running && (
        <p className="mt-1.5 text-sm text-faint">
          Stopped, it takes {plural(state.sites, "site")} with it: the rehearsal names each.
        </p>
      )}
    </article>
  );
}

const RUNS: Record<string, readonly [words: string, tone: string]> = {
  true: ["runs", "text-clear"],
  false: ["does not run", "text-blocked"],
};

const TELL: Record<string, string> = {
  reload: "have it read again",
  stop: "stop it",
  start: "start it",
};

function Doors({ doors }: { doors: State["doors"] }) {
  return (
    <section aria-label="Listens at" className="mt-3">
      <h3 className="font-medium">Listens at</h3>
      <ul className="flex flex-wrap gap-x-6">
        {doors.map(({ address, port, wanted, heard }) => (
          <li key={`${address} ${port}`}>
            <span className="mono">{`${address.includes(":") ? `[${address}]` : address}:${port}`}</span>
            {!heard && <span className="ml-2 text-blocked">wanted, and nobody listens</span>}
            {!wanted && (
              <span className="ml-2 text-diverted">listens, though no line says so now</span>
            )}
          </li>
        ))}
      </ul>
      {!doors.length && <p className="text-faint">nowhere</p>}
    </section>
  );
}

function Configuration({ state }: { state: State }) {
  const { passes, said, stops_at: stops } = state;
  return (
    <section aria-label="Configuration" className="mt-3">
      <h3 className="font-medium">Configuration</h3>
      <p>
        <span className="mono">{cut(state.config, 60)}</span>: {plural(state.files, "file")} with
        all that it includes
      </p>
      {stops.map((each) => (
        <p key={each} className="border-l-4 border-blocked pl-3 break-words">
          Reading stops at <span className="mono">{each}</span>
        </p>
      ))}
      {passes !== null && (
        <p className={passes ? "" : "text-blocked"}>
          Its own check {passes ? "passes" : "fails"}
          {!passes && said && <span className="mono block break-words">{cut(said, 400)}</span>}
        </p>
      )}
    </section>
  );
}

const SHOWN = 12;

function Unread({ files }: { files: State["unread"] }) {
  if (!files.length) return null;
  return (
    <section aria-label="Lies there, and is not read" className="mt-3">
      <h3 className="font-medium">Lies there, and is not read</h3>
      <ul>
        {files.slice(0, SHOWN).map(({ path, why }) => (
          <li key={path} className="flex justify-between gap-4">
            <Link to={`/who?path=${encodeURIComponent(path)}`} className="mono min-w-0 truncate">
              {path}
            </Link>
            <span className="shrink-0 text-faint">{why}</span>
          </li>
        ))}
      </ul>
      {files.length > SHOWN && <p className="text-faint">and {files.length - SHOWN} more</p>}
    </section>
  );
}
