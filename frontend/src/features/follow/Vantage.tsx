import { ToggleGroup } from "radix-ui";

const PLACES = [
  ["outside", "someone outside"],
  ["127.0.0.1", "the server itself"],
] as const;

interface Props {
  source: string | undefined;
  choose: (source: string | null) => void;
}

/** Where the visitor is. */
export function Vantage({ source, choose }: Props) {
  return (
    <ToggleGroup.Root
      type="single"
      aria-label="Asked by"
      value={source ?? "outside"}
      onValueChange={(value) => value && choose(value === "outside" ? null : value)}
      className="ml-auto flex shrink-0 items-baseline gap-3 text-sm"
    >
      <span className="text-faint">asked by</span>
      {PLACES.map(([value, words]) => (
        <ToggleGroup.Item
          key={value}
          value={value}
          className="cursor-pointer border-b-2 border-transparent text-faint hover:text-ink data-[state=on]:border-clear data-[state=on]:text-ink"
        >
          {words}
        </ToggleGroup.Item>
      ))}
      {source && !PLACES.some(([value]) => value === source) && (
        <span className="mono">{source}</span>
      )}
    </ToggleGroup.Root>
  );
}
