import { useQuery } from "@tanstack/react-query";
import { type FormEvent, useEffect, useState } from "react";
import { Link, useSearchParams } from "react-router";
import { type Claim, passageQuery } from "../../lib/passage";
import { plural } from "../../lib/text";
import { Button } from "../../ui/Button";
import { Prose } from "../../ui/Prose";
import { Failed, Waiting } from "../../ui/States";
import { LaneBand } from "./LaneBand";
import { laneOf, questionUrl } from "./present";
import { bindingsQuery } from "./queries";

// With fewer names than this all are drawn, and the typed one lights up among them.
const FEW = 400;

/** Addresses and ports as lanes, with the names that are claimed in each: who answers? */
export function BindingsPage() {
  const [params, setParams] = useSearchParams();
  const typed = params.get("name") ?? "";
  const all = useQuery(bindingsQuery(""));
  const few = (all.data?.names ?? 0) <= FEW;
  const found = useQuery(bindingsQuery(few ? "" : typed.replace(/:\d*$/, "")));
  const url = questionUrl(typed);
  const answer = useQuery(passageQuery({ url: url ?? "" }));
  const choose = (name: string) => setParams(name ? { name } : {});
  if (found.isPending) return <Waiting>Reading the bindings</Waiting>;
  if (found.isError) return <Failed error={found.error} retry={found.refetch} />;
  const lanes = found.data.lanes;
  const lane = url ? laneOf(lanes, url, answer.data?.address ?? null) : undefined;
  const winner = url ? (answer.data?.site?.name ?? null) : null;
  return (
    <div className="grid h-full grid-cols-[1fr_24rem]">
      <section aria-label="Lanes" className="flex min-h-0 flex-col">
        <Ask typed={typed} choose={choose} names={found.data.names} lanes={lanes.length} />
        <div className="min-h-0 flex-1 space-y-2 overflow-auto pb-6">
          {lanes.map((each) => (
            <LaneBand
              key={`${each.engine} ${each.address} ${each.port}`}
              lane={each}
              lit={each === lane}
              winner={winner}
              choose={choose}
            />
          ))}
          {!lanes.length && <p className="p-5 text-faint">No name or site holds these words.</p>}
        </div>
      </section>
      <aside
        aria-label="Who answers"
        className="min-h-0 overflow-auto border-l border-line bg-sheet px-5 py-4"
      >
        {url ? <Answer url={url} /> : <Hint />}
      </aside>
    </div>
  );
}

interface AskProps {
  typed: string;
  choose: (name: string) => void;
  names: number;
  lanes: number;
}

function Ask({ typed, choose, names, lanes }: AskProps) {
  const [text, setText] = useState(typed);
  useEffect(() => setText(typed), [typed]);
  const go = (event: FormEvent) => {
    event.preventDefault();
    choose(text.trim());
  };
  return (
    <form onSubmit={go} aria-label="Who answers?" className="flex items-baseline gap-3 px-5 py-3">
      <h1 className="sr-only">Bindings</h1>
      <label className="flex items-baseline gap-3">
        <span className="font-medium">Who answers</span>
        <input
          value={text}
          onChange={(event) => setText(event.target.value)}
          placeholder="a name, or name:port"
          spellCheck={false}
          autoComplete="off"
          className="mono w-72 border-b border-ink bg-transparent px-1 placeholder:font-sans placeholder:text-faint"
        />
      </label>
      <Button type="submit">Ask</Button>
      {typed && <Button onClick={() => choose("")}>Clear</Button>}
      <p className="ml-auto text-sm text-faint">
        {plural(names, "name")} on {plural(lanes, "lane")}
        <Link className="ml-4 underline" to="/certificates">
          certificates
        </Link>
      </p>
    </form>
  );
}

function Answer({ url }: { url: string }) {
  const passage = useQuery(passageQuery({ url }));
  if (passage.isPending) return <Waiting>Asking</Waiting>;
  if (passage.isError) return <Failed error={passage.error} retry={passage.refetch} />;
  const gates = passage.data.gates;
  const site = gates.find((gate) => gate.gate === "site");
  const door = gates.find((gate) => gate.gate === "door");
  const name = gates.find((gate) => gate.gate === "name");
  const shut = [name, door].find((gate) => gate?.verdict === "blocked");
  return (
    <div className="space-y-4">
      <header>
        <p className="mono wrap-anywhere text-faint">{url}</p>
        <h2 className="text-xl leading-snug font-medium break-words">
          <Prose text={shut?.reason ?? site?.reason ?? ""} />
        </h2>
      </header>
      {shut && site && (
        <p className="text-faint">
          Were that mended: <Prose text={site.reason} />
        </p>
      )}
      <ul className="space-y-1 text-sm text-faint">
        {[name, door].map(
          (gate) =>
            gate &&
            gate !== shut && (
              <li key={gate.gate}>
                <Prose text={gate.reason} />
              </li>
            ),
        )}
      </ul>
      <Link className="underline" to={`/follow?${new URLSearchParams({ url, gate: "site" })}`}>
        Follow it through all gates
      </Link>
      <Rivals claims={site?.claims ?? []} />
    </div>
  );
}

/** Of all that were weighed, those that came close: the winner, and who claims the name too. */
function Rivals({ claims }: { claims: Claim[] }) {
  const close = claims.filter((claim) => claim.outcome !== "other-name");
  return (
    <ol aria-label="Who came close" className="space-y-2">
      {close.map((claim) => {
        const won = claim.outcome === "won" || claim.outcome === "first";
        return (
          <li
            key={`${claim.at.file}:${claim.at.line}`}
            className={`border-l-4 pl-3 ${won ? "border-clear" : "border-unsure"}`}
          >
            <p className={won ? "font-bold" : ""}>
              <Link
                className="hover:underline"
                to={`/site?${new URLSearchParams({ at: `${claim.at.file}:${claim.at.line}` })}`}
              >
                {claim.site}
              </Link>{" "}
              <span className="font-normal text-faint">{claim.words}</span>
            </p>
            <p className="mono text-sm wrap-anywhere text-faint">
              {claim.at.file}:{claim.at.line}
            </p>
          </li>
        );
      })}
    </ol>
  );
}

function Hint() {
  return (
    <div className="space-y-2 text-faint">
      <h2 className="text-xl font-medium text-ink">Who answers?</h2>
      <p>
        Each lane is one address and port. Type a name, also one that nobody claims, or choose one
        in a lane: its lane, the contest and the winner light up.
      </p>
      <p>
        A name that is struck through is claimed there, and another site always gets its visitors.
      </p>
    </div>
  );
}
