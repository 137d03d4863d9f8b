import type { Plot } from "./queries";

export interface Ground {
  plot: Plot;
  inner: Ground[];
}

/** The tree of plots, from the order in which they come: each in front of what lies in it. */
export function tree(plots: Plot[]): Ground[] {
  const top: Ground[] = [];
  const open: Ground[] = [];
  for (const plot of plots) {
    const ground = { plot, inner: [] };
    open.length = plot.depth;
    const around = open[plot.depth - 1];
    if (around) around.inner.push(ground);
    else top.push(ground);
    open[plot.depth] = ground;
  }
  return top;
}

/** A hue for an owner: the same for the same name. */
export function hue(owner: string | null): number {
  let sum = 7;
  for (const char of owner ?? "") sum = (sum * 31 + char.charCodeAt(0)) % 3600;
  return sum % 360;
}

const PROBLEMS: Record<string, string> = {
  missing: "not there",
  "not-folder": "no folder",
  loop: "links lead in a circle",
  unseen: "not in the survey",
  "too-long": "the path is too long",
};

export function problemWords(problem: string): string {
  return PROBLEMS[problem] ?? problem;
}

/** The folder around one, as far as the root of all. */
export function around(path: string): string {
  return path.slice(0, path.lastIndexOf("/")) || "/";
}
