import { Tabs } from "radix-ui";
import type { ReactNode } from "react";
import { courses, VERDICT_WORDS } from "../../lib/passage";
import { GateMark } from "../../ui/GateMark";
import { refusal } from "./present";
import type { Passage } from "./queries";

interface Props {
  passage: Passage;
  open: string;
  choose: (gate: string) => void;
  children: ReactNode;
}

/** The ten gates as one course, from the visitor on the left to the file on the right. */
export function GateStrip({ passage, open, choose, children }: Props) {
  const run = courses(passage);
  const refused = refusal(passage);
  return (
    <Tabs.Root
      value={open}
      onValueChange={choose}
      className="flex min-h-0 flex-1 flex-col"
      key={passage.url}
    >
      <Tabs.List aria-label="Gates" className="course-draw grid grid-cols-10 px-5 pt-1">
        {passage.gates.map((gate, number) => (
          <Tabs.Trigger
            key={gate.gate}
            value={gate.gate}
            className="group cursor-pointer border-x border-t border-transparent pt-1.5 pb-1 text-center hover:bg-deep/60 data-[state=active]:border-line data-[state=active]:bg-sheet"
          >
            <span className="block font-medium group-data-[state=active]:font-bold">
              {gate.gate}
            </span>
            <GateMark verdict={gate.verdict} course={run[number] ?? "sailed"} />
            {gate === refused ? (
              <span className="block text-xs font-bold text-blocked">browsers refuse</span>
            ) : (
              <span className={`block text-xs ${WORD_TONES[gate.verdict]}`}>
                {VERDICT_WORDS[gate.verdict]}
              </span>
            )}
          </Tabs.Trigger>
        ))}
      </Tabs.List>
      <Tabs.Content
        value={open}
        tabIndex={-1}
        className="flex min-h-0 flex-1 flex-col border-t border-line outline-none"
      >
        {children}
      </Tabs.Content>
    </Tabs.Root>
  );
}

const WORD_TONES = {
  clear: "text-faint",
  blocked: "font-bold text-blocked",
  diverted: "font-bold text-diverted",
  unsure: "font-bold text-unsure",
  skipped: "text-skipped italic",
} as const;
