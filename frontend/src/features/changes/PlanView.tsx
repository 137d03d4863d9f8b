import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { Link, useNavigate, useSearchParams } from "react-router";
import type { Plan } from "../../api/plans";
import { plural } from "../../lib/text";
import { Button } from "../../ui/Button";
import { Copy } from "../../ui/Copy";
import { Failed, Waiting } from "../../ui/States";
import { Doing } from "./Doing";
import { Found, Summary } from "./Found";
import { moved } from "./present";
import { type Rehearsal, rehearsalQuery, useChange, useThrowAway } from "./queries";

/** One plan: what it would change, its steps, and having it done. */
export function PlanView({ plan }: { plan: Plan }) {
  const [params] = useSearchParams();
  const busy = params.has("job");
  const done = plan.entry !== null;
  const found = useQuery({
    ...rehearsalQuery(plan.id, plan.changed_at),
    enabled: !busy && !done,
  });
  return (
    <article className="px-8 py-5">
      <Title plan={plan} />
      {!busy && !done && found.isPending && <Waiting>Rehearsing it on the latest survey</Waiting>}
      {!busy && found.isError && <Failed error={found.error} retry={found.refetch} />}
      {!busy && found.data && <Summary found={found.data} />}
      {done && !busy && (
        <p className="mb-4">
          This plan was done:{" "}
          <Link className="underline" to={`/changes?entry=${plan.entry}`}>
            entry {plan.entry} of the ledger
          </Link>
          .
        </p>
      )}
      {(busy || found.data) && <Doing plan={plan} found={found.data} />}
      {!busy && found.data && <Found found={found.data} />}
      <Steps plan={plan} found={found.data} />
    </article>
  );
}

function Title({ plan }: { plan: Plan }) {
  const change = useChange(plan.id);
  const [title, setTitle] = useState(plan.title);
  const keep = () => {
    if (title.trim() && title !== plan.title) change.mutate({ title: title.trim() });
  };
  return (
    <h1 className="mb-3">
      <input
        aria-label="What this plan is for"
        value={title}
        maxLength={200}
        onChange={(event) => setTitle(event.target.value)}
        onBlur={keep}
        onKeyDown={(event) => event.key === "Enter" && event.currentTarget.blur()}
        className="w-full border-b border-transparent bg-transparent text-2xl font-medium hover:border-line focus:border-ink focus:outline-none"
      />
    </h1>
  );
}

const SHOWN = 40;

function Steps({ plan, found }: { plan: Plan; found: Rehearsal | undefined }) {
  const change = useChange(plan.id);
  const away = useThrowAway(plan.id);
  const navigate = useNavigate();
  const [commands, setCommands] = useState(false);
  const [all, setAll] = useState(false);
  const { steps } = plan;
  const without = (number: number) =>
    change.mutate({ order: steps.map((_, at) => at).filter((at) => at !== number) });
  return (
    <section aria-label="Steps" className="mt-6 max-w-4xl">
      <h2 className="mb-2 flex items-baseline gap-4 border-b border-line text-lg font-medium">
        {plural(steps.length, "step")}
        <button
          type="button"
          className="cursor-pointer text-sm font-normal text-faint underline"
          aria-pressed={commands}
          onClick={() => setCommands(!commands)}
        >
          {commands ? "in words" : "as commands"}
        </button>
        {commands && (
          <Copy text={steps.map((step) => step.shell).join("\n")} label="all commands" />
        )}
        {plan.entry === null && (
          <button
            type="button"
            className="ml-auto cursor-pointer text-sm font-normal text-faint underline"
            onClick={() => away.mutate(undefined, { onSuccess: () => navigate("/changes") })}
          >
            throw this plan away
          </button>
        )}
      </h2>
      <ol className="space-y-0.5">
        {(all ? steps : steps.slice(0, SHOWN)).map((step, number) => (
          <li
            key={`${number} ${step.shell}`}
            className="group grid grid-cols-[2rem_1fr_auto_auto] items-baseline gap-2"
          >
            <span className="mono text-right text-sm text-faint">{number + 1}</span>
            {commands ? (
              <code className="wrap-anywhere">{step.shell}</code>
            ) : (
              <span className="break-words">{step.words}</span>
            )}
            <span className="text-sm text-faint">
              {STANDS[found?.standings[number] ?? ""] ?? ""}
            </span>
            {plan.entry === null && (
              <span className="flex gap-2 text-sm text-faint">
                <Tool
                  label={`earlier: step ${number + 1} before the one above`}
                  onClick={() => change.mutate({ order: moved(steps.length, number, number - 1) })}
                  disabled={number === 0}
                >
                  earlier
                </Tool>
                <Tool label={`leave out step ${number + 1}`} onClick={() => without(number)}>
                  leave out
                </Tool>
              </span>
            )}
          </li>
        ))}
      </ol>
      {!all && steps.length > SHOWN && (
        <Button className="mt-2" onClick={() => setAll(true)}>
          Show the other {steps.length - SHOWN}
        </Button>
      )}
    </section>
  );
}

const STANDS: Record<string, string> = {
  done: "done already",
  stale: "not as expected any more",
};

interface ToolProps {
  label: string;
  onClick: () => void;
  disabled?: boolean;
  children: string;
}

function Tool({ label, children, ...rest }: ToolProps) {
  return (
    <button
      type="button"
      aria-label={label}
      className="cursor-pointer underline decoration-line underline-offset-3 hover:text-ink disabled:invisible"
      {...rest}
    >
      {children}
    </button>
  );
}
