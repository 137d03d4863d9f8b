import { Choice } from "../../ui/Choice";
import { OnlyWith } from "../../ui/OnlyWith";
import type { Grouping } from "./present";

const WORDS: ReadonlyArray<readonly [Grouping, string]> = [
  ["kind", "kind"],
  ["binding", "address"],
  ["owner", "owner"],
  ["volume", "volume"],
];

interface Props {
  words: string;
  by: Grouping;
  set: (key: string, value: string) => void;
  shown: number;
  all: number;
}

export function Tools({ words, by, set, shown, all }: Props) {
  return (
    <div className="flex items-baseline gap-6 px-5 py-3">
      <h1 className="sr-only">Overview</h1>
      <OnlyWith words={words} put={(text) => set("q", text)} />
      <Choice
        words="grouped by"
        label="Grouped by"
        value={by}
        options={WORDS}
        choose={(value) => set("by", value === "kind" ? "" : value)}
      />
      <p role="status" className="ml-auto text-sm text-faint">
        {shown === all ? `${all} sites` : `${shown} of ${all} sites`}
      </p>
    </div>
  );
}
