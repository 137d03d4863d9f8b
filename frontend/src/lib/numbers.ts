/** Numbers as they are told. */

// Thin gaps between thousands, whatever the reader's language.
const COUNT = new Intl.NumberFormat("fr-FR", { maximumFractionDigits: 0 });
const UNITS = ["kilobyte", "megabyte", "gigabyte", "terabyte"] as const;
const SIZES = UNITS.map(
  (unit) =>
    new Intl.NumberFormat("en", {
      style: "unit",
      unit,
      unitDisplay: "short",
      minimumFractionDigits: 1,
      maximumFractionDigits: 1,
      useGrouping: false,
    }),
);

/** A large number: 400 005. */
export function count(number: number): string {
  return COUNT.format(number);
}

/** Bytes in the largest unit that fits: 12.5 MB. */
export function size(bytes: number): string {
  if (bytes < 1000) return `${bytes} B`;
  const power = Math.min(UNITS.length, Math.floor(Math.log10(bytes) / 3));
  return (SIZES[power - 1] as Intl.NumberFormat).format(bytes / 1000 ** power);
}
