/** How axes look: thin lines, small words, as many as there is room for. */
export const AXIS = {
  stroke: "var(--color-line)",
  tickStroke: "var(--color-line)",
  tickLength: 4,
} as const;

export const WORDS = {
  className: "mono",
  fill: "var(--color-faint)",
  fontFamily: "var(--font-mono)",
  fontSize: 11,
} as const;
