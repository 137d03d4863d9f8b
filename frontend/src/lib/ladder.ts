/** How a step of the ladder of permissions is told. */
import type { Rung } from "./passage";

/** Which of a step's three triads decided: 0 owner, 1 group, 2 other; null where none did. */
export function decidingTriad(rung: Rung): number | null {
  const at = ["owner", "group", "other"].indexOf(rung.by);
  // A named entry of the ACL decides in place of the triads.
  if (at < 0 || (rung.acl.length > 0 && rung.by === "group")) return null;
  return at;
}

const NEEDS: Record<string, string> = { r: "read", w: "write", x: "pass" };

export function needWords(rung: Rung): string {
  return NEEDS[rung.need] ?? "follow";
}
