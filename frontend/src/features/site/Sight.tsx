import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { Link } from "react-router";
import { passageQuery, type Question } from "../../lib/passage";
import { AddToPlan } from "../../ui/AddToPlan";
import { Prose } from "../../ui/Prose";
import { SeenBy } from "../../ui/SeenBy";
import { openingQuery } from "./queries";

/** Who can see a site today, from where; of one that was made here, who else shall. */
export function Sight({ at, front }: { at: string; front: string }) {
  const [wanted, setWanted] = useState("");
  const known = useQuery(openingQuery(at, ""));
  const opening = useQuery({ ...openingQuery(at, wanted), enabled: wanted !== "" });
  const now = known.data?.now ?? null;
  return (
    <section aria-label="Who can see it" className="space-y-1">
      <h2 className="text-sm text-faint">Who can see it</h2>
      <From question={{ url: front }} words="someone outside" />
      <From question={{ url: front, source: "127.0.0.1" }} words="the server itself" />
      {now !== null && (
        <div className="pt-1">
          <SeenBy key={now} value={wanted || now} say={setWanted} />
          {opening.isError && (
            <p role="alert" className="mt-1 text-sm text-blocked">
              {opening.error.message}
            </p>
          )}
          {opening.data && opening.data.operations.length > 0 && (
            <AddToPlan
              key={opening.data.title}
              what={{ title: opening.data.title, operations: opening.data.operations }}
            />
          )}
        </div>
      )}
      {known.data && known.data.closing.length > 0 && (
        <AddToPlan
          label="Out of service: add to the plan"
          what={{ title: known.data.closing_title, operations: known.data.closing }}
        />
      )}
      {known.data?.kept && <p className="pt-1 text-sm text-faint">{known.data.kept}.</p>}
    </section>
  );
}

function From({ question, words }: { question: Question; words: string }) {
  const { data } = useQuery(passageQuery(question));
  if (!data) return null;
  const address = new URLSearchParams({ url: question.url });
  if (question.source) address.set("from", question.source);
  const sure = data.decided || data.premise;
  // Where nothing but the name is in doubt, what comes once it leads here says more.
  const named = !sure && data.unsure_because.every((doubt) => doubt.gate === "name");
  const then = data.obstacles[0] ?? data.gates.find((gate) => gate.gate === "serve");
  const text = named && then ? `Once its name leads here: ${then.reason}` : data.summary;
  const fine = sure && data.status !== null && data.status < 400;
  return (
    <p className="grid grid-cols-[8rem_3.5rem_1fr] gap-2 text-sm">
      <span className="text-faint">{words}</span>
      <Link
        to={`/follow?${address}`}
        className={`mono font-semibold underline ${fine ? "text-clear" : sure ? "text-blocked" : "text-unsure"}`}
      >
        {data.status ?? "none"}
        {!sure && "?"}
      </Link>
      <span className="min-w-0 wrap-anywhere">
        <Prose text={text} />
      </span>
    </p>
  );
}
