interface Props {
  label: string;
  /** How many places there are, and which one is read; none before anybody has looked. */
  count: number;
  at: number | null;
  read: (at: number | null) => void;
  /** What stands at the place that is read. */
  words: string;
}

/** Reads a picture place by place: by arrow keys, as by pointing at it. */
export function Reading({ label, count, at, read, words }: Props) {
  return (
    <input
      type="range"
      aria-label={label}
      aria-valuetext={words}
      min={0}
      max={Math.max(0, count - 1)}
      value={at ?? 0}
      onFocus={() => read(at ?? 0)}
      onBlur={() => read(null)}
      onChange={(event) => read(Number(event.target.value))}
      className="peer sr-only"
    />
  );
}
