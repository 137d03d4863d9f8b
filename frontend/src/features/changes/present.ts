import type { Fared, Rehearsal } from "./queries";

export type Fate = Fared["fate"];

/** The worst first. */
export const FATES: ReadonlyArray<readonly [Fate, one: string, several: string]> = [
  ["closes", "closes", "close"],
  ["unsure", "is not sure", "are not sure"],
  ["answered otherwise", "is answered otherwise", "are answered otherwise"],
  ["opens", "comes back", "come back"],
  ["new", "is new", "are new"],
];

export const TONES: Record<Fate, string> = {
  closes: "text-blocked",
  unsure: "text-unsure",
  "answered otherwise": "text-diverted",
  opens: "text-clear",
  new: "text-ink",
};

export function isServed(side: Fared["before"]): boolean {
  return side.status !== null && side.status < 400;
}

/** Steps in another order: one taken out and put in elsewhere. */
export function moved(count: number, from: number, to: number): number[] {
  const order = Array.from({ length: count }, (_, number) => number);
  const [step] = order.splice(from, 1);
  if (step !== undefined) order.splice(to, 0, step);
  return order;
}

export const STATES: Record<string, string> = {
  done: "border-clear",
  undone: "border-dashed border-skipped",
  "taken back": "border-dashed border-diverted",
  refused: "border-blocked",
  begun: "border-dotted border-unsure",
  "going back": "border-dotted border-unsure",
};

interface Alike {
  kind: string;
  words: string;
  names: string[];
}

/** What gets worse, together where it is of one kind: its names, and the first one in words. */
export function alike(worse: Rehearsal["worse"]): Alike[] {
  const found = new Map<string, Alike>();
  for (const { name, words, kind } of worse) {
    const known = found.get(kind);
    // What has a name that a person knows is called by it.
    if (known) known.names.push(name);
    else
      found.set(kind, { kind, words: kind === name ? `${name}: ${words}` : words, names: [name] });
  }
  return [...found.values()];
}
