import type { Figures } from "./queries";

export const HOUR = 3600;

/** A moment of the logs in their own zone: 2031-04-09 14:02. */
export function at(seconds: number, zone: number): string {
  return new Date((seconds + zone) * 1000).toISOString().slice(0, 16).replace("T", " ");
}

/** The same with its seconds. */
export function atSecond(seconds: number, zone: number): string {
  return new Date((seconds + zone) * 1000).toISOString().slice(0, 19).replace("T", " ");
}

/** The reader's own zone at a moment, in seconds east of UTC. */
export function ownZone(seconds: number): number {
  return -60 * new Date(seconds * 1000).getTimezoneOffset();
}

/** A zone as it stands behind a time: UTC, or +02:00. */
export function zoneWords(zone: number): string {
  if (zone === 0) return "UTC";
  const minutes = Math.abs(zone) / 60;
  const two = (part: number) => String(Math.trunc(part)).padStart(2, "0");
  return `${zone < 0 ? "−" : "+"}${two(minutes / 60)}:${two(minutes % 60)}`;
}

/** A moment as it was typed, in the zone of the logs; whole hours alone are told apart. */
export function fromField(text: string, zone: number): number | null {
  const parts = /^\s*(\d{4}-\d\d-\d\d)(?:[ T](\d\d)(?::(\d\d))?)?\s*$/.exec(text);
  if (!parts) return null;
  const moment = Date.parse(`${parts[1]}T${parts[2] ?? "00"}:${parts[3] ?? "00"}:00Z`);
  if (Number.isNaN(moment)) return null;
  const seconds = moment / 1000 - zone;
  return seconds - (((seconds % HOUR) + HOUR) % HOUR);
}

export interface Range {
  begin: number;
  end: number;
}

/** Whole hours around what the logs hold. */
export function wholeRange(first: number, last: number): Range {
  return { begin: first - (first % HOUR), end: last - (last % HOUR) + HOUR };
}

/** The range of an address, kept within the whole one; the whole one where it makes no sense. */
export function rangeOf(from: string | null, to: string | null, whole: Range): Range {
  const begin = Math.max(whole.begin, Number(from) || whole.begin);
  const end = Math.min(whole.end, Number(to) || whole.end);
  return begin < end ? { begin, end } : whole;
}

/** Two moments of a drag as a range on whole bands; null where it was a mere click. */
export function brushed(one: number, two: number, width: number, whole: Range): Range | null {
  const low = Math.min(one, two);
  const high = Math.max(one, two);
  if (high - low < width / 2) return null;
  const begin = Math.max(whole.begin, low - ((low - whole.begin) % width));
  const end = Math.min(whole.end, begin + Math.ceil((high - begin) / width) * width);
  return { begin, end };
}

export interface Column {
  begin: number;
  answered: number;
  sent: number;
  refused: number;
  broken: number;
}

/** What each band holds: answered and sent on above the line, failed ones below. */
export function columns(bands: Figures["bands"]): Column[] {
  return bands.map(({ begin, classes }) => ({
    begin,
    answered: (classes[0] ?? 0) + (classes[1] ?? 0) + (classes[2] ?? 0),
    sent: classes[3] ?? 0,
    refused: classes[4] ?? 0,
    broken: classes[5] ?? 0,
  }));
}

/** A mark on the axis of time, whose moment stands in UTC: the year, the day, or the hour. */
export function tickWords(moment: Date): string {
  const text = moment.toISOString();
  if (text.slice(11, 16) !== "00:00") return text.slice(11, 16);
  return text.slice(5, 10) === "01-01" ? text.slice(0, 4) : text.slice(5, 10);
}

export function share(part: number, whole: number): string {
  if (!whole || !part) return "0 %";
  const percent = (100 * part) / whole;
  return percent < 1 ? "under 1 %" : `${Math.round(percent)} %`;
}

type Cell = string | number;

/** Rows as CSV (RFC 4180). What a spreadsheet would take for a formula is kept a text. */
export function csv(rows: ReadonlyArray<readonly Cell[]>): string {
  const cell = (value: Cell) => {
    if (typeof value === "number") return String(value);
    const safe = /^\s*[=+\-@\t\r]/.test(value) ? `'${value}` : value;
    return /[",\r\n]/.test(safe) ? `"${safe.replaceAll('"', '""')}"` : safe;
  };
  return rows.map((row) => `${row.map(cell).join(",")}\r\n`).join("");
}

export interface Peaks {
  /** The band in which the most failed, where that is more than usual. usual: a part of one. */
  failing: { begin: number; requests: number; failed: number; usual: number | null } | null;
  /** The band with the most requests, where there are at least twice as many as usual. */
  busiest: { begin: number; requests: number; times: number } | null;
}

/** What stands out among the bands of a range; `usual` is the median of those with requests. */
export function peaks(bands: Figures["bands"], width: number): Peaks {
  const told = columns(bands)
    .map(({ begin, answered, sent, refused, broken }) => ({
      begin,
      requests: answered + sent + refused + broken,
      failed: refused + broken,
    }))
    .filter((band) => band.requests > 0);
  const worst = told.reduce((a, b) => (b.failed > a.failed ? b : a), NONE);
  const most = told.reduce((a, b) => (b.requests > a.requests ? b : a), NONE);
  const usual = told.length > 2 ? median(told.map((band) => band.failed / band.requests)) : null;
  const often = median(told.map((band) => band.requests));
  const odd = usual === null || worst.failed / worst.requests > 1.5 * usual;
  return {
    failing: worst.failed > 0 && width > 0 && odd ? { ...worst, usual } : null,
    busiest:
      told.length > 2 && most.requests >= 2 * often
        ? { begin: most.begin, requests: most.requests, times: most.requests / often }
        : null,
  };
}

const NONE = { begin: 0, requests: 0, failed: 0 };

function median(numbers: number[]): number {
  const sorted = [...numbers].sort((a, b) => a - b);
  return sorted[Math.floor(sorted.length / 2)] ?? 0;
}
