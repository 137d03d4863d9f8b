import { asUrl } from "../lib/text";

/** Whether a text is meant as an address: it has a scheme, a dot or a path. */
export function isAddress(text: string): boolean {
  return /^https?:\/\//i.test(text) || /^[^\s/]+(\.[^\s/]+|:\d+)(\/.*)?$/.test(text);
}

/** Whether a text is a name, or a piece of one: neither a path nor a whole address. */
export function isWord(text: string): boolean {
  return text !== "" && !text.startsWith("/") && !/[:/\s]/.test(text);
}

/** The place of an account or a site that was looked up. */
export function placeOf(hit: { kind: string; name: string; at?: string }): string {
  return hit.kind === "account"
    ? `/users?${new URLSearchParams({ account: hit.name })}`
    : `/site?${new URLSearchParams({ at: hit.at ?? "" })}`;
}

/** Where the address line leads: to a passage, to who may at a path, or to the sites of a word. */
export function destination(typed: string, params: URLSearchParams): string | null {
  const text = typed.trim();
  if (!text) return null;
  if (text.startsWith("/")) return `/who?${new URLSearchParams({ path: text })}`;
  if (!isAddress(text)) return `/?${new URLSearchParams({ q: text })}`;
  const next = new URLSearchParams({ url: asUrl(text) });
  const source = params.get("from");
  if (source) next.set("from", source);
  return `/follow?${next}`;
}
