import { Link } from "react-router";
import type { Schemas } from "../api/client";
import { ImpactMark } from "./ImpactMark";
import { Prose } from "./Prose";

/** Findings as a list of marks and titles; each leads to itself. */
export function FindingList({ findings }: { findings: Schemas["BriefFinding"][] }) {
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
