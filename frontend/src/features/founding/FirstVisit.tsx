import { courses, type Passage, VERDICT_WORDS } from "../../lib/passage";
import { GateMark } from "../../ui/GateMark";

/** The gates of a site that is not there yet, walked by somebody who has not come yet. */
export function FirstVisit({ passage, who }: { passage: Passage; who: string }) {
  const run = courses(passage);
  return (
    <figure className="mb-3 border-t border-line pt-1.5">
      <figcaption className="flex items-baseline gap-3">
        <span>{who}</span>
        <span
          className={`mono font-semibold ${(passage.status ?? 500) < 400 ? "text-clear" : "text-blocked"}`}
        >
          {passage.status ?? "no answer"}
        </span>
        <span className="min-w-0 text-sm text-faint wrap-anywhere">{passage.summary}</span>
      </figcaption>
      <ol className="grid grid-cols-10">
        {passage.gates.map((gate, number) => (
          <li key={gate.gate} className="text-center" title={gate.reason}>
            <span className="block text-sm">{gate.gate}</span>
            <GateMark verdict={gate.verdict} course={run[number] ?? "sailed"} />
            <span className="sr-only">{VERDICT_WORDS[gate.verdict]}</span>
          </li>
        ))}
      </ol>
    </figure>
  );
}
