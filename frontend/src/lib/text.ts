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

/** What was typed as an address: plain HTTP where nothing else is said. */
export function asUrl(typed: string): string {
  return /^https?:\/\//i.test(typed) ? typed : `http://${typed}`;
}

export function bytes(count: number): string {
  if (count < 1000) return `${count} B`;
  if (count < 1_000_000) return `${(count / 1000).toFixed(1)} kB`;
  return `${(count / 1_000_000).toFixed(1)} MB`;
}

export function plural(count: number, one: string, many = `${one}s`): string {
  return `${count} ${count === 1 ? one : many}`;
}
