/** How long ago, in the largest unit that is at least one. `now` and `then` in milliseconds. */
export function ago(then: number, now: number): string {
  const minutes = Math.max(0, Math.round((now - then) / 60_000));
  if (minutes < 1) return "just now";
  if (minutes < 60) return `${minutes} min ago`;
  const hours = Math.round(minutes / 60);
  if (hours < 48) return `${hours} h ago`;
  return `${Math.round(hours / 24)} days ago`;
}

/** A moment with its zone, as 2031-04-15 09:12 UTC. */
export function moment(iso: string): string {
  return `${new Date(iso).toISOString().slice(0, 16).replace("T", " ")} UTC`;
}

/** The day of a moment in seconds since 1970, UTC, as 2031-04-15. */
export function day(seconds: number): string {
  return new Date(seconds * 1000).toISOString().slice(0, 10);
}

/** What was typed as an address: plain HTTP where nothing else is said. */
export function asUrl(typed: string): string {
  return /^https?:\/\//i.test(typed) ? typed : `http://${typed}`;
}

export function plural(count: number, one: string, many = `${one}s`): string {
  return `${count} ${count === 1 ? one : many}`;
}

/** A text of which the middle is left out where it is longer than `most` letters. */
export function cut(text: string, most = 64): string {
  if (text.length <= most) return text;
  const half = Math.floor((most - 1) / 2);
  return `${text.slice(0, half)}…${text.slice(text.length - half)}`;
}

/** A sentence of which each long word is cut. */
export function cutWords(text: string, most = 64): string {
  return text.length <= most ? text : text.replace(/\S+/g, (word) => cut(word, most));
}
