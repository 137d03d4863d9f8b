import type { Change, Changes } from "./queries";

export type Part = keyof Changes;

export const PARTS: ReadonlyArray<readonly [Part, string]> = [
  ["passages", "Front pages"],
  ["findings", "Findings"],
  ["sites", "Sites"],
  ["bindings", "Bindings"],
  ["files", "Files"],
  ["accounts", "Accounts"],
];

/** Changes that hold every word. */
export function withWords(changes: Change[], words: string): Change[] {
  const wanted = words.toLowerCase().split(/\s+/).filter(Boolean);
  if (!wanted.length) return changes;
  return changes.filter((change) => {
    const text = [change.what, change.subject, change.aspect, change.before, change.after]
      .join(" ")
      .toLowerCase();
    return wanted.every((word) => text.includes(word));
  });
}

/** How many of each kind, as "3 new, 2 gone". */
export function counted(changes: Change[]): string {
  const kinds = ["new", "gone", "changed"].map(
    (what) => [changes.filter((change) => change.what === what).length, what] as const,
  );
  return kinds
    .filter(([count]) => count > 0)
    .map(([count, what]) => `${count} ${what}`)
    .join(", ");
}
