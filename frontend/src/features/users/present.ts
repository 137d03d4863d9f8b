import type { Cell, User } from "./queries";

/** Accounts that hold every word, in their name, reason or state. */
export function withWords(users: User[], words: string): User[] {
  const wanted = words.toLowerCase().split(/\s+/).filter(Boolean);
  if (!wanted.length) return users;
  return users.filter((user) => {
    const text = [user.account, user.home, user.folder, user.first || "answers", user.why]
      .join(" ")
      .toLowerCase();
    return wanted.every((word) => text.includes(word));
  });
}

/** Those that fail first at this condition in front, all others in their order behind. */
export function sortedBy(users: User[], condition: string): User[] {
  if (!condition) return users;
  const rank = (user: User) => {
    if (user.first === condition) return 0;
    const state = user.conditions.find((each) => each.name === condition)?.state;
    return state === "fails" ? 1 : state === "unsure" ? 2 : 3;
  };
  return [...users].sort((a, b) => rank(a) - rank(b));
}

export interface Matrix {
  owners: string[];
  others: { name: string; cells: (Cell | undefined)[] }[];
  /** Accounts that can do to every owner just what another one can stand together. */
  alike: Map<string, string[]>;
}

/** Owners across, neighbours down; neighbours who can do the same to all are one row. */
export function matrix(cells: Cell[]): Matrix {
  const owners = [...new Set(cells.map((cell) => cell.owner))];
  const byOther = new Map<string, Map<string, Cell>>();
  for (const cell of cells) {
    const row = byOther.get(cell.other) ?? new Map<string, Cell>();
    row.set(cell.owner, cell);
    byOther.set(cell.other, row);
  }
  const alike = new Map<string, string[]>();
  const first = new Map<string, string>();
  const all = [...byOther.keys()];
  for (const [other, row] of byOther) {
    const mark = owners
      .map((owner) => {
        const cell = row.get(owner);
        return cell ? `${cell.reads} ${cell.writes}` : owner === other ? "own" : "";
      })
      .concat(row.values().next().value?.worker ? "worker" : "")
      .join("|");
    const same = first.get(mark);
    if (same === undefined) {
      first.set(mark, other);
      alike.set(other, [other]);
    } else alike.get(same)?.push(other);
  }
  const others = all
    .filter((other) => alike.has(other))
    .map((name) => ({ name, cells: owners.map((owner) => byOther.get(name)?.get(owner)) }))
    .sort((a, b) => (alike.get(a.name)?.length ?? 0) - (alike.get(b.name)?.length ?? 0));
  return { owners, others, alike };
}

export interface ExposedOwner {
  owner: string;
  /** How many can read something, and how many can write it. */
  accounts: number;
  writers: number;
  worker: boolean;
  worst: Cell;
}

/** Owners whose private files others can read; those that most can write or read first. */
export function exposedOwners(cells: Cell[]): ExposedOwner[] {
  const byOwner = new Map<string, Cell[]>();
  for (const cell of cells) byOwner.set(cell.owner, [...(byOwner.get(cell.owner) ?? []), cell]);
  return [...byOwner]
    .map(([owner, own]) => ({
      owner,
      accounts: own.length,
      writers: own.filter((cell) => cell.writes > 0).length,
      worker: own.some((cell) => cell.worker),
      worst: own[0] as Cell,
    }))
    .sort((a, b) => b.writers - a.writers || b.accounts - a.accounts);
}
