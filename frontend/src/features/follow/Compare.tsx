import { useQuery } from "@tanstack/react-query";
import { Link } from "react-router";
import { courses } from "../../lib/passage";
import { GateMark } from "../../ui/GateMark";
import { Prose } from "../../ui/Prose";
import { Failed, Waiting } from "../../ui/States";
import { addressOf, outcomeWords, parting, TONES, tone } from "./present";
import { type Passage, passageQuery, type Question } from "./queries";
import { vantageWords } from "./Vantage";

interface Side {
  question: Question;
  passage: Passage;
}

/** Two passages side by side, gate by gate; the first gate at which they part is marked. */
export function Compare({ left, right }: { left: Question; right: Question }) {
  const one = useQuery(passageQuery(left));
  const other = useQuery(passageQuery(right));
  if (one.isError) return <Failed error={one.error} retry={one.refetch} />;
  if (other.isError) return <Failed error={other.error} retry={other.refetch} />;
  if (one.isPending || other.isPending) return <Waiting>Following both</Waiting>;
  return (
    <Table
      sides={[
        { question: left, passage: one.data },
        { question: right, passage: other.data },
      ]}
    />
  );
}

function Table({ sides }: { sides: readonly [Side, Side] }) {
  const apart = parting(sides[0].passage, sides[1].passage);
  const gates = sides[0].passage.gates.map((gate) => gate.gate);
  return (
    <div className="min-h-0 flex-1 overflow-auto border-t border-line bg-sheet px-5 py-4">
      <table aria-label="Compared" className="w-full table-fixed border-collapse text-left">
        <thead>
          <tr className="align-top">
            <td className="w-24" />
            {sides.map((side, number) => (
              <Head key={number === 0 ? "left" : "right"} side={side} />
            ))}
          </tr>
        </thead>
        <tbody>
          {gates.map((gate, at) => (
            <tr
              key={gate}
              className={
                at === apart
                  ? "border-t-4 border-ink align-top"
                  : "border-t border-line align-top text-faint"
              }
            >
              <th scope="row" className={`py-2 pr-3 ${at === apart ? "font-bold" : "font-normal"}`}>
                {gate}
                {at === apart && <span className="block text-sm font-normal">here they part</span>}
              </th>
              {sides.map((side, number) => (
                <Cell
                  key={number === 0 ? "left" : "right"}
                  side={side}
                  at={at}
                  apart={at === apart}
                />
              ))}
            </tr>
          ))}
        </tbody>
      </table>
      {apart === null && (
        <p className="mt-4 font-medium">Both pass every gate alike: nothing sets them apart.</p>
      )}
    </div>
  );
}

function Head({ side }: { side: Side }) {
  const { passage, question } = side;
  return (
    <th scope="col" className="pr-6 pb-3 font-normal">
      <Link to={addressOf(question)} className="mono block wrap-anywhere underline">
        {passage.url}
      </Link>
      <span className="text-sm text-faint">asked by {vantageWords(question.source)}</span>
      <span className={`mt-1 flex items-baseline gap-2 border-l-4 pl-2 ${TONES[tone(passage)]}`}>
        <span className="mono text-2xl leading-none font-semibold">
          {passage.status ?? "—"}
          {passage.decided ? "" : "?"}
        </span>
        <span className="font-medium">{outcomeWords(passage)}</span>
      </span>
    </th>
  );
}

function Cell({ side, at, apart }: { side: Side; at: number; apart: boolean }) {
  const gate = side.passage.gates[at];
  if (!gate) return <td />;
  const course = courses(side.passage)[at] ?? "sailed";
  return (
    <td className="py-1.5 pr-6">
      <Link
        to={addressOf(side.question, gate.gate)}
        className="grid grid-cols-[4.5rem_1fr] items-start gap-3 hover:underline"
      >
        <GateMark verdict={gate.verdict} course={course} />
        <span className={`min-w-0 pt-2 break-words ${apart ? "font-medium text-ink" : ""}`}>
          <span className="sr-only">{gate.verdict}: </span>
          <Prose text={gate.reason} />
        </span>
      </Link>
    </td>
  );
}
