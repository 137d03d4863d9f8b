import { ToggleGroup } from "radix-ui";
import type { ReactNode } from "react";

interface Props {
  /** What the choice is about, as a few words in front of it. */
  words: string;
  label: string;
  value: string;
  options: ReadonlyArray<readonly [value: string, words: string]>;
  choose: (value: string) => void;
  className?: string;
  children?: ReactNode;
}

/** One of a few, in a row of words. */
export function Choice({ words, label, value, options, choose, className = "", children }: Props) {
  return (
    <ToggleGroup.Root
      type="single"
      aria-label={label}
      value={value}
      onValueChange={(chosen) => chosen && choose(chosen)}
      className={`flex shrink-0 items-baseline gap-3 text-sm ${className}`}
    >
      <span className="text-faint">{words}</span>
      {options.map(([option, text]) => (
        <ToggleGroup.Item
          key={option}
          value={option}
          className="cursor-pointer border-b-2 border-transparent text-faint hover:text-ink data-[state=on]:border-clear data-[state=on]:text-ink"
        >
          {text}
        </ToggleGroup.Item>
      ))}
      {children}
    </ToggleGroup.Root>
  );
}
