import { Link } from "react-router";
import { Prose } from "../../ui/Prose";
import { ImpactMark } from "./ImpactMark";
import type { BriefFinding } from "./queries";

/** Findings as a list of marks and titles; each leads to itself. */
export function FindingList({ findings }: { findings: BriefFinding[] }) {
  return (
    <ul className="space-y-2">
      {findings.map((finding) => (
        <li key={finding.key} className="grid grid-cols-[1.5rem_1fr] gap-1">
          <ImpactMark impact={finding.impact} size={18} />
          <Link to={`/?finding=${finding.key}`} className="break-words hover:underline">
            <Prose text={finding.title} />
          </Link>
        </li>
      ))}
    </ul>
  );
}
