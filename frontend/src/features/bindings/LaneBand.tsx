import { Link } from "react-router";
import { count } from "../../lib/numbers";
import { ImpactMark } from "../../ui/ImpactMark";
import { berths, folders, laneTitle, laneWords, shortly } from "./present";
import type { Lane, LaneName } from "./queries";

interface Props {
  lane: Lane;
  /** The visitor of the name that was typed comes to this lane. */
  lit: boolean;
  winner: string | null;
  choose: (name: string) => void;
}

/** One address and port: at its head who listens, then who stands for the unknown, then the names. */
export function LaneBand({ lane, lit, winner, choose }: Props) {
  const beyond = (lane.claimed ?? 0) - lane.names.filter((name) => !name.in_folder).length;
  return (
    <section
      aria-label={laneTitle(lane)}
      className={`grid grid-cols-[12rem_1fr] border-y ${lit ? "border-ink bg-shoal" : "border-line"} ${lane.heard_by ? "" : "border-dashed"}`}
    >
      <header className="border-r border-line py-2.5 pr-3 pl-5">
        <h2 className="mono text-base font-semibold">{laneTitle(lane)}</h2>
        <p className={lane.heard_by ? "text-sm text-faint" : "text-sm font-bold text-blocked"}>
          {laneWords(lane)}
        </p>
        {lane.engine && lane.engine !== "httpd" && lane.heard_by !== lane.engine && (
          <p className="mono text-sm text-faint">{lane.engine}</p>
        )}
      </header>
      <div className="min-w-0 py-2.5 pr-5 pl-4">
        {lane.standing && (
          <p className="mb-2 flex items-baseline gap-2 border-b border-dashed border-line pb-2 text-sm">
            <Post />
            <span className="text-faint">whoever is not named below meets</span>
            <span className={`mono ${winner === lane.standing && lit ? "font-bold" : ""}`}>
              {lane.standing}
            </span>
            <span className="text-faint">{lane.marked ? "marked for it" : "as the first"}</span>
          </p>
        )}
        <ul className="flex flex-wrap gap-x-1.5 gap-y-1">
          {berths(lane.names).map((berth) => (
            <li
              key={`${berth.site} ${berth.names[0]?.declared_at}`}
              className={`flex flex-wrap border ${lit && winner === berth.site ? "border-ink" : "border-line"}`}
            >
              {berth.names.map((name, at) => (
                <Name
                  key={name.name}
                  name={name}
                  shown={at > 0 ? shortly(name.name, berth.names[0]?.name ?? "") : name.name}
                  lit={lit && winner === name.site}
                  choose={choose}
                />
              ))}
            </li>
          ))}
          {lane.nameless.map((site) => (
            <li key={site} className="border border-dashed border-blocked px-1.5 text-blocked">
              a site without a name, never seen: <span className="mono">{site}</span>
            </li>
          ))}
        </ul>
        {lane.by_pattern.map((group) => (
          <p key={group.declared_at} className="mt-1.5 text-sm">
            <span className="text-faint">by pattern: </span>
            <Link to={`/site?${new URLSearchParams({ at: group.declared_at })}`}>
              {folders(group.folders)}
            </Link>
            <span className="text-faint"> below </span>
            <span className="mono">{group.site}</span>
          </p>
        ))}
        {beyond > 0 && (
          <p className="mt-1 text-sm text-faint">
            {count(beyond)} names are not listed here; what is contested, fails or is a pattern
            comes first. Type part of one above to see it.
          </p>
        )}
      </div>
    </section>
  );
}

/** A post that stands by itself: who answers when nobody is named. */
function Post() {
  return (
    <svg width="14" height="18" viewBox="0 0 14 18" aria-hidden="true" className="self-center">
      <path
        d="M7 1 V17 M2 17 H12 M3 4 L7 1 L11 4"
        className="stroke-ink"
        fill="none"
        strokeWidth="2"
      />
    </svg>
  );
}

interface NameProps {
  name: LaneName;
  shown: string;
  lit: boolean;
  choose: (name: string) => void;
}

function Name({ name, shown, lit, choose }: NameProps) {
  const lost = !name.wins;
  // What is shown shortly is told in full.
  const label = shown === name.name ? undefined : name.name;
  return (
    <button
      type="button"
      onClick={() => choose(name.name)}
      aria-label={label}
      className={`mono cursor-pointer px-1.5 py-0.5 not-first:border-l not-first:border-line hover:bg-shoal ${
        lost ? "bg-unsure/10 text-unsure" : name.fails ? "bg-blocked/10" : "bg-sheet"
      } ${lit ? "font-bold" : ""} ${shown === name.name ? "" : "text-faint"}`}
    >
      {(lost || name.fails) && (
        <span className="mr-1 inline-block align-middle">
          <ImpactMark impact={lost ? "clash" : "outage"} size={16} />
        </span>
      )}
      <span className={lost ? "line-through decoration-2" : ""}>{shown}</span>
      {lost && <span className="font-sans text-sm"> {name.winner} has it</span>}
      {!name.exact && <span className="font-sans text-sm text-faint"> all of these</span>}
    </button>
  );
}
