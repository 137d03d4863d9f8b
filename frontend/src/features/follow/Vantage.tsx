import { Choice } from "../../ui/Choice";

const PLACES = [
  ["outside", "someone outside"],
  ["127.0.0.1", "the server itself"],
] as const;

/** Who asks, in words. */
export function vantageWords(source: string | undefined): string {
  return PLACES.find(([value]) => value === (source ?? "outside"))?.[1] ?? source ?? "";
}

interface Props {
  source: string | undefined;
  choose: (source: string | null) => void;
}

/** Where the visitor is. */
export function Vantage({ source, choose }: Props) {
  const other = source !== undefined && !PLACES.some(([value]) => value === source);
  return (
    <Choice
      words="asked by"
      label="Asked by"
      value={source ?? "outside"}
      options={PLACES}
      choose={(value) => choose(value === "outside" ? null : value)}
      className="ml-auto"
    >
      {other && <span className="mono">{source}</span>}
    </Choice>
  );
}
