import { asUrl } from "../lib/text";

/** Whether a text is meant as an address: it has a scheme, a dot or a path. */
export function isAddress(text: string): boolean {
  return /^https?:\/\//i.test(text) || /^[^\s/]+(\.[^\s/]+|:\d+)(\/.*)?$/.test(text);
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
