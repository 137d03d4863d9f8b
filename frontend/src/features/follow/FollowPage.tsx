import { useQuery } from "@tanstack/react-query";
import { useSearchParams } from "react-router";
import { Failed, Note, Waiting } from "../../ui/States";
import { GateField } from "./GateField";
import { GateStrip } from "./GateStrip";
import { Outcome } from "./Outcome";
import { openGate, questionOf } from "./present";
import { passageQuery } from "./queries";
import { Vantage } from "./Vantage";

/** One address, the strip of its gates, and the evidence of the gate that stands open. */
export function FollowPage() {
  const [params, setParams] = useSearchParams();
  const question = questionOf(params);
  const passage = useQuery(passageQuery(question));
  const set = (key: string, value: string | null) =>
    setParams((before) => {
      const next = new URLSearchParams(before);
      if (value) next.set(key, value);
      else next.delete(key);
      return next;
    });
  if (!question.url) return <Invitation />;
  if (passage.isPending) return <Waiting>Following {question.url}</Waiting>;
  if (passage.isError) return <Failed error={passage.error} retry={passage.refetch} />;
  const open = openGate(passage.data, params.get("gate"));
  if (!open) return null;
  return (
    <div className="flex h-full flex-col">
      <div className="flex items-baseline gap-4 px-5 pt-3">
        <h1 className="mono min-w-0 truncate text-ink">{passage.data.url}</h1>
        <Vantage source={question.source} choose={(source) => set("from", source)} />
      </div>
      <GateStrip passage={passage.data} open={open.gate} choose={(gate) => set("gate", gate)}>
        <div className="grid min-h-0 flex-1 grid-cols-[1fr_22rem]">
          <div className="min-h-0 overflow-auto bg-sheet">
            <GateField gate={open} passage={passage.data} />
          </div>
          <aside
            aria-label="Outcome"
            className="min-h-0 overflow-auto border-l border-line px-5 py-4"
          >
            <Outcome passage={passage.data} choose={(gate) => set("gate", gate)} />
          </aside>
        </div>
      </GateStrip>
    </div>
  );
}

function Invitation() {
  return (
    <Note title="Follow an address">
      <p>
        Type one in the line above, as a visitor would: a name, a path, a port. You see the ten
        gates that the request passes, and everything that stands in its way.
      </p>
      <p className="mono">http://choir.example/~ines/</p>
    </Note>
  );
}
