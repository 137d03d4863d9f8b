import { useQuery } from "@tanstack/react-query";
import { useEffect } from "react";
import { useSearchParams } from "react-router";
import { remember } from "../../lib/recent";
import { Failed, Waiting } from "../../ui/States";
import { Compare } from "./Compare";
import { CompareWith } from "./CompareWith";
import { GateField } from "./GateField";
import { GateStrip } from "./GateStrip";
import { Outcome } from "./Outcome";
import { openGate, questionOf } from "./present";
import { type Passage, passageQuery, type Question } from "./queries";
import { Starts } from "./Starts";
import { Vantage } from "./Vantage";

type Changes = Record<string, string | null>;

/** One address and what comes of it, alone or beside another. */
export function FollowPage() {
  const [params, setParams] = useSearchParams();
  const question = questionOf(params);
  const beside = params.get("beside");
  const set = (changes: Changes) =>
    setParams((before) => {
      const next = new URLSearchParams(before);
      for (const [key, value] of Object.entries(changes)) {
        if (value === null) next.delete(key);
        else next.set(key, value);
      }
      return next;
    });
  if (!question.url) return <Starts />;
  return (
    <div className="flex h-full flex-col">
      <div className="flex items-baseline gap-6 px-5 pt-3 pb-1">
        <h1 className="mono min-w-0 truncate text-ink">{question.url}</h1>
        {beside === null && (
          <button
            type="button"
            onClick={() => set({ beside: "" })}
            className="shrink-0 cursor-pointer text-sm text-faint underline decoration-line underline-offset-3 hover:text-ink"
          >
            compare
          </button>
        )}
        <Vantage source={question.source} choose={(source) => set({ from: source })} />
      </div>
      {beside !== null && (
        <CompareWith
          url={beside || question.url}
          source={params.get("beside-from")}
          choose={(url, source) => set({ beside: url, "beside-from": source })}
          leave={() => set({ beside: null, "beside-from": null })}
        />
      )}
      {beside ? (
        <Compare left={question} right={besideOf(params, beside)} />
      ) : (
        <Alone question={question} gate={params.get("gate")} set={set} />
      )}
    </div>
  );
}

/** The other side is asked as its own visitor, and connects where its own name leads. */
function besideOf(params: URLSearchParams, url: string): Question {
  const source = params.get("beside-from");
  return source ? { url, source } : { url };
}

interface AloneProps {
  question: Question;
  gate: string | null;
  set: (changes: Changes) => void;
}

/** The strip of the gates, and the evidence of the one that stands open. */
function Alone({ question, gate, set }: AloneProps) {
  const passage = useQuery(passageQuery(question));
  if (passage.isPending) return <Waiting>Following {question.url}</Waiting>;
  if (passage.isError) return <Failed error={passage.error} retry={passage.refetch} />;
  return <Followed passage={passage.data} question={question} gate={gate} set={set} />;
}

function Followed({ passage, question, gate, set }: AloneProps & { passage: Passage }) {
  const { url, to } = question;
  const { status } = passage;
  useEffect(() => remember(to ? { url, to, status } : { url, status }), [url, to, status]);
  const open = openGate(passage, gate);
  if (!open) return null;
  const choose = (chosen: string) => set({ gate: chosen });
  return (
    <GateStrip passage={passage} open={open.gate} choose={choose}>
      <div className="grid min-h-0 flex-1 grid-cols-[1fr_22rem]">
        <div className="min-h-0 overflow-auto bg-sheet">
          <GateField gate={open} passage={passage} />
        </div>
        <aside
          aria-label="Outcome"
          className="min-h-0 overflow-auto border-l border-line px-5 py-4"
        >
          <Outcome passage={passage} question={question} choose={choose} />
        </aside>
      </div>
    </GateStrip>
  );
}
