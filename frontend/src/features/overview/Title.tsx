import { cut } from "../../lib/text";
import type { Grouping, Shoal } from "./present";

/** The head of a group. */
export function Title({ shoal, by }: { shoal: Shoal; by: Grouping }) {
  return (
    <h2 className="mb-1.5 flex items-baseline gap-2 border-b border-line">
      <span className={by === "kind" ? "font-medium" : "mono font-semibold"}>
        {cut(shoal.title)}
      </span>
      <span className="text-sm text-faint">{shoal.sites.length}</span>
    </h2>
  );
}
