import { useQuery } from "@tanstack/react-query";
import { Link, useSearchParams } from "react-router";
import { client, type Schemas, take } from "../../api/client";
import { plural } from "../../lib/text";
import { Copy } from "../../ui/Copy";
import { Failed, Waiting } from "../../ui/States";

type Contexts = Schemas["ContextsView"];
type Switch = Schemas["SwitchView"];
type Tree = Schemas["TreeView"];
type Port = Schemas["PortView"];

/** The security policy: switches with what depends on them, what differs from the rules, ports. */
export function ContextsPage() {
  const [params, setParams] = useSearchParams();
  const found = useQuery({
    queryKey: ["contexts"],
    queryFn: async () =>
      take(
        await client.GET("/api/surveys/{survey}/contexts", {
          params: { path: { survey: "latest" } },
        }),
      ),
  });
  if (found.isPending) return <Waiting>Reading the policy</Waiting>;
  if (found.isError) return <Failed error={found.error} retry={found.refetch} />;
  const contexts = found.data;
  const name = params.get("switch");
  const chosen = contexts.switches.find((each) => each.name === name);
  return (
    <div className="grid h-full grid-cols-[1fr_24rem]">
      <section aria-label="Policy" className="min-h-0 space-y-7 overflow-auto px-5 py-4">
        <h1 className="sr-only">Contexts</h1>
        <Mode contexts={contexts} />
        <Trees trees={contexts.trees} more={contexts.more_trees} />
        <Switches
          switches={contexts.switches}
          chosen={name}
          choose={(each) => setParams({ switch: each })}
        />
        <Ports ports={contexts.ports} />
      </section>
      <aside
        aria-label="Switch"
        className="min-h-0 overflow-auto border-l border-line bg-sheet px-5 py-4"
      >
        {chosen ? <Turned chosen={chosen} /> : <Hint />}
      </aside>
    </div>
  );
}

const MODES: Record<string, string> = {
  enforcing: "The policy is in force: what it does not allow is refused, whatever the mode says.",
  permissive: "The policy only warns: nothing is refused.",
  disabled: "No policy is in force on this server.",
};

function Mode({ contexts }: { contexts: Contexts }) {
  return (
    <div>
      <p className="text-lg">
        {MODES[contexts.mode] ?? "Whether a policy is in force is not known."}
      </p>
      {contexts.shipped && contexts.mode !== "disabled" && (
        <p className="text-unsure">
          The survey holds no policy of this server; what stands here is the one that comes with
          Ecumen. Other policies differ.
        </p>
      )}
      {contexts.trouble && <p className="text-blocked">{contexts.trouble}</p>}
    </div>
  );
}

function Trees({ trees, more }: { trees: Tree[]; more: number }) {
  return (
    <section aria-label="Not as the rules say">
      <h2 className="mb-1 flex items-baseline gap-3 border-b border-line text-lg font-medium">
        Not as the rules say
        <span className="text-sm font-normal text-faint">
          {trees.length ? plural(trees.length + more, "place") : "nothing differs"}
        </span>
      </h2>
      <ul>
        {trees.map((tree) => (
          <li
            key={tree.path}
            className="grid grid-cols-[minmax(0,1fr)_minmax(0,1fr)_7rem] items-baseline gap-4 border-b border-line py-1.5"
          >
            <span className="min-w-0">
              <Link
                to={`/who?${new URLSearchParams({ path: tree.path })}`}
                className="mono wrap-anywhere hover:underline"
              >
                {tree.path}
              </Link>
              {tree.count > 1 && (
                <span className="text-sm text-faint"> and {tree.count - 1} below</span>
              )}
            </span>
            <span className="mono min-w-0 wrap-anywhere">
              {tree.actual}
              <span className="block text-faint">rules: {tree.expected}</span>
            </span>
            <span
              className={`text-right ${tree.readable === false ? "font-bold text-blocked" : "text-faint"}`}
            >
              {tree.readable === false ? "shut" : tree.readable ? "can be read" : "not known"}
            </span>
          </li>
        ))}
      </ul>
    </section>
  );
}

interface SwitchesProps {
  switches: Switch[];
  chosen: string | null;
  choose: (name: string) => void;
}

function Switches({ switches, chosen, choose }: SwitchesProps) {
  const bearing = switches.filter((each) => each.sites.length || each.effects.length);
  const others = switches.filter((each) => !bearing.includes(each));
  const list = (each: Switch) => (
    <li key={each.name}>
      <button
        type="button"
        aria-pressed={chosen === each.name}
        onClick={() => choose(each.name)}
        className="grid w-full cursor-pointer grid-cols-[3.5rem_minmax(0,1fr)_auto] items-center gap-3 border-b border-line py-1 text-left hover:bg-shoal aria-pressed:bg-shoal"
      >
        <Lever on={each.on} />
        <span className="mono wrap-anywhere">{each.name}</span>
        <span className={`text-sm ${each.sites.length ? "text-blocked" : "text-faint"}`}>
          {each.sites.length > 0
            ? `${plural(each.sites.length, "site waits", "sites wait")} for it`
            : ""}
        </span>
      </button>
    </li>
  );
  return (
    <section aria-label="Switches">
      <h2 className="mb-1 flex items-baseline gap-3 border-b border-line text-lg font-medium">
        Switches
        <span className="text-sm font-normal text-faint">
          {plural(bearing.length, "switch bears", "switches bear")} on something here
        </span>
      </h2>
      <ul>{bearing.map(list)}</ul>
      {others.length > 0 && (
        <details>
          <summary className="cursor-pointer py-1 text-sm text-faint">
            {others.length} more on which nothing here depends
          </summary>
          <ul>{others.map(list)}</ul>
        </details>
      )}
    </section>
  );
}

/** A rope belayed, or let go. */
function Lever({ on }: { on: boolean }) {
  return (
    <span className="flex items-center gap-1.5">
      <svg width="18" height="18" viewBox="0 0 24 24" aria-hidden="true">
        <g className={on ? "stroke-clear" : "stroke-skipped"} fill="none" strokeWidth="2.4">
          <path d="M12 3 V21" />
          {on ? <path d="M5 8 H19 M5 13 H19" /> : <path d="M5 18 L10 12" />}
        </g>
      </svg>
      <span className={`text-sm ${on ? "text-clear" : "text-faint"}`}>{on ? "on" : "off"}</span>
    </span>
  );
}

function Turned({ chosen }: { chosen: Switch }) {
  const command = `setsebool -P ${chosen.name} ${chosen.on ? "off" : "on"}`;
  const opens = chosen.effects.filter((effect) => effect.opens);
  const closes = chosen.effects.filter((effect) => !effect.opens);
  return (
    <article aria-label="Switch" className="space-y-5">
      <header>
        <h2 className="mono text-lg font-semibold wrap-anywhere">{chosen.name}</h2>
        <p className="text-faint">is {chosen.on ? "on" : "off"}</p>
      </header>
      {chosen.sites.length > 0 && (
        <section aria-label="Waiting for it">
          <h3 className="text-sm text-faint">It would let these past the policy</h3>
          <p className="mono wrap-anywhere">{chosen.sites.join(", ")}</p>
        </section>
      )}
      <section aria-label="If it were turned">
        <h3 className="text-sm text-faint">If it were turned {chosen.on ? "off" : "on"}</h3>
        {chosen.effects.length === 0 && (
          <p>No file or folder of this survey would open or close to the web server.</p>
        )}
        <Effects title="opens" effects={opens} />
        <Effects title="closes" effects={closes} />
      </section>
      <p>
        <code className="wrap-anywhere">{command}</code> <Copy text={command} label="the command" />
      </p>
    </article>
  );
}

function Effects({ title, effects }: { title: string; effects: Switch["effects"] }) {
  if (!effects.length) return null;
  return (
    <ul className={`mt-1 space-y-0.5 ${title === "opens" ? "text-diverted" : "text-faint"}`}>
      {effects.map((effect) => (
        <li key={`${effect.what} ${effect.type}`}>
          {title}: {effect.what} of type <span className="mono wrap-anywhere">{effect.type}</span>,{" "}
          {plural(effect.paths, "path")}
        </li>
      ))}
    </ul>
  );
}

function Ports({ ports }: { ports: Port[] }) {
  return (
    <section aria-label="Ports">
      <h2 className="mb-1 border-b border-line text-lg font-medium">Ports</h2>
      <ul>
        {ports.map((port) => (
          <li
            key={`${port.engine} ${port.port}`}
            className="grid grid-cols-[5rem_5rem_1fr_auto] gap-3 py-0.5"
          >
            <span className="mono font-semibold">{port.port}</span>
            <span className="mono">{port.engine}</span>
            <span className="mono text-faint">{port.type || "no type known"}</span>
            <span className={port.allowed === false ? "font-bold text-blocked" : "text-faint"}>
              {port.allowed === null
                ? "not known"
                : port.allowed
                  ? "may be bound"
                  : "may not be bound"}
            </span>
          </li>
        ))}
      </ul>
    </section>
  );
}

function Hint() {
  return (
    <div className="space-y-2 text-faint">
      <h2 className="text-xl font-medium text-ink">Modes are right, and it is refused?</h2>
      <p>
        The policy decides by the type of a file, not by its owner or mode. What was moved from
        elsewhere brings the type that it had there.
      </p>
      <p>Choose a switch to see what would open or close if it were turned.</p>
    </div>
  );
}
