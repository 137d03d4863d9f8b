import { Ladder } from "../../ui/Ladder";
import { Prose } from "../../ui/Prose";
import { Source } from "../../ui/Source";
import { Certificate } from "./pictures/Certificate";
import { Contest } from "./pictures/Contest";
import { IndexOrder } from "./pictures/IndexOrder";
import { Labels } from "./pictures/Labels";
import { Leads } from "./pictures/Leads";
import { RuleLayers } from "./pictures/RuleLayers";
import { WayChain } from "./pictures/WayChain";
import type { Gate, Passage } from "./queries";

const QUESTIONS: Record<string, string> = {
  name: "Does the name lead to this server?",
  door: "Does something listen there?",
  seal: "Does the certificate let the visitor in?",
  site: "Which site answers, and why that one?",
  way: "Where on the disk does the address lead?",
  rule: "Who may, by configuration?",
  ladder: "May the web server pass every step of the path?",
  context: "Does the security policy allow it?",
  serve: "What goes out?",
  record: "Which log gets the line?",
};

/** The gate that stands open: its question, its answer, and the picture of its evidence. */
export function GateField({ gate, passage }: { gate: Gate; passage: Passage }) {
  const behind = passage.unsure_because.filter((doubt) => doubt.gate === gate.gate);
  return (
    <section aria-labelledby="gate-question" className="max-w-5xl space-y-5 px-6 py-5">
      <header>
        <h2 id="gate-question" className="text-faint">
          {QUESTIONS[gate.gate]}
        </h2>
        <p className="text-xl leading-snug font-medium break-words">
          <Prose text={gate.reason} />
        </p>
      </header>
      <Picture gate={gate} />
      {behind.length > 1 && (
        <ul className="list-disc pl-5 text-unsure">
          {behind.map((doubt) => (
            <li key={`${doubt.code} ${doubt.reason}`}>
              <Prose text={doubt.reason} />
            </li>
          ))}
        </ul>
      )}
      <Proofs gate={gate} />
    </section>
  );
}

function Picture({ gate }: { gate: Gate }) {
  const seal = gate.seals?.[0];
  if (seal) return <Certificate seal={seal} />;
  if (gate.leads?.length) return <Leads leads={gate.leads} />;
  if (gate.claims?.length) return <Contest claims={gate.claims} />;
  if (gate.mappings?.length) {
    return <WayChain mappings={gate.mappings} places={gate.places ?? []} />;
  }
  if (gate.rules?.length) return <RuleLayers rules={gate.rules} />;
  if (gate.rungs?.length) return <Ladder rungs={gate.rungs} />;
  if (gate.labels?.length) return <Labels labels={gate.labels} />;
  if (gate.candidates?.length) return <IndexOrder candidates={gate.candidates} />;
  return null;
}

/** The evidence that the picture does not hold already. */
function Proofs({ gate }: { gate: Gate }) {
  const shown = [gate.rungs, gate.mappings, gate.rules, gate.labels].some((all) => all?.length);
  const proofs = shown ? [] : gate.evidence;
  if (!proofs?.length) return null;
  return (
    <section aria-label="Written at">
      <h3 className="mb-1 text-sm text-faint">Written at</h3>
      <ul className="space-y-2 border-l-2 border-line pl-3">
        {proofs.map((proof) => (
          <li key={JSON.stringify(proof)}>
            <Source proof={proof} />
          </li>
        ))}
      </ul>
    </section>
  );
}
