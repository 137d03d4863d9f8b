import { Link } from "react-router";
import { decidingTriad, needWords } from "../lib/ladder";
import type { Rung } from "../lib/passage";

const TRIADS = ["owner", "group", "others"] as const;

/** The path as descending steps: who owns each, what its bits are, and which of them decided. */
export function Ladder({ rungs }: { rungs: Rung[] }) {
  return (
    <ol aria-label="Steps of the path" className="space-y-px">
      {rungs.map((rung, depth) => (
        <Step key={`${rung.path} ${rung.need}`} rung={rung} depth={depth} />
      ))}
    </ol>
  );
}

function Step({ rung, depth }: { rung: Rung; depth: number }) {
  const state = rung.allowed ? "open" : "shut";
  return (
    <li
      data-state={state}
      className="grid grid-cols-[minmax(0,1fr)_auto_9rem_7.5rem] items-center gap-x-4 border-b border-line py-1.5 data-[state=shut]:bg-blocked/10"
      style={{ paddingLeft: `${Math.min(depth, 9) * 0.9}rem` }}
    >
      <div className="flex min-w-0 items-baseline gap-2">
        <span aria-hidden="true" className="mono text-faint">
          {rung.kind === "link" ? "↷" : "└"}
        </span>
        <span className="min-w-0">
          <Link
            to={`/who?${new URLSearchParams({ path: rung.path })}`}
            aria-label={`${rung.name}: who may?`}
            className="hover:underline"
          >
            <code className="font-semibold wrap-anywhere">{rung.name}</code>
          </Link>
          {rung.target && <code className="text-faint"> → {rung.target}</code>}
          <span className="block text-sm break-words text-faint">{rung.words}</span>
          {rung.by === "user" || rung.acl.length > 0 ? <Acl rung={rung} /> : null}
        </span>
      </div>
      {rung.kind === "link" ? <span /> : <Bits rung={rung} />}
      <span className="mono min-w-0 truncate">
        {rung.owner}:{rung.group}
      </span>
      <span
        className={`text-right font-medium ${rung.allowed ? "text-clear" : "font-bold text-blocked"}`}
      >
        {rung.allowed ? "may" : "may not"} {needWords(rung)}
      </span>
    </li>
  );
}

/** Nine bits in three groups; the group that decided is framed, the bit in question is marked. */
function Bits({ rung }: { rung: Rung }) {
  const deciding = decidingTriad(rung);
  return (
    <span role="img" aria-label={`mode ${rung.mode}`} className="flex items-center gap-1">
      {rung.triads.map((triad, at) => (
        <span
          key={TRIADS[at]}
          data-deciding={at === deciding}
          className="mono border border-transparent px-1 text-faint data-[deciding=true]:border-ink data-[deciding=true]:bg-paper data-[deciding=true]:text-ink"
        >
          {[...triad].map((bit, place) => {
            const letter = "rwx"[place] ?? "";
            const asked = at === deciding && letter === rung.need;
            return (
              <span
                key={letter}
                className={
                  asked ? (rung.allowed ? "font-semibold text-clear" : "bg-blocked text-paper") : ""
                }
              >
                {bit}
              </span>
            );
          })}
        </span>
      ))}
      <span className="mono pl-1 text-faint">{rung.mode}</span>
    </span>
  );
}

function Acl({ rung }: { rung: Rung }) {
  return (
    <span className="mono block text-faint">
      ACL {rung.acl.join("  ")}
      {rung.line && <span className="text-ink"> · {rung.line}</span>}
    </span>
  );
}
