import { ParentSize } from "@visx/responsive";
import type { ReactNode } from "react";

interface Props {
  /** What the keys read: "Read requests over time". */
  label: string;
  /** How many places there are, and which one is read; none before anybody has looked. */
  count: number;
  at: number | null;
  read: (at: number | null) => void;
  /** What stands at the place that is read. */
  words: string;
  height: number;
  /** The narrowest that it is drawn, in pixels. */
  narrowest: number;
  children: (width: number) => ReactNode;
}

/** A picture as wide as there is room, read place by place: by arrow keys, as by pointing at it. */
export function Readable({ label, count, at, read, words, height, narrowest, children }: Props) {
  return (
    <>
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
      <div className="outline-offset-2 outline-ink peer-focus-visible:outline-2">
        <ParentSize
          debounceTime={50}
          style={{ height }}
          initialSize={{ width: 2 * narrowest, height }}
        >
          {({ width }) => children(Math.max(narrowest, width))}
        </ParentSize>
      </div>
    </>
  );
}
