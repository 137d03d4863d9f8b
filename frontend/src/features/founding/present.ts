import { WISHES, type Wish } from "./queries";

/** The wish that the page's address holds. */
export function wishOf(params: URLSearchParams): Wish {
  const wish: Wish = {};
  for (const key of WISHES) {
    const value = params.get(key)?.trim();
    if (value) wish[key] = value;
  }
  return wish;
}

/** What of it is called how, and by which word it is asked for. */
export const PARTS: Record<string, readonly [words: string, wish: keyof Wish]> = {
  root: ["its folder", "folder"],
  names: ["its names", "names"],
  bindings: ["where it listens", "bindings"],
  log: ["its log", "log"],
  file: ["its configuration", "file"],
};

/** A path's last name: of a file it is the name alone that can be said otherwise. */
export function typed(part: string, value: string): string {
  return part === "file" ? (value.split("/").pop() ?? "") : value;
}
