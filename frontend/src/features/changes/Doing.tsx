import { useQuery, useQueryClient } from "@tanstack/react-query";
import { useEffect, useState } from "react";
import { Link, useSearchParams } from "react-router";
import { Problem } from "../../api/client";
import { type Plan, plansQuery } from "../../api/plans";
import { usePut } from "../../lib/params";
import { Button } from "../../ui/Button";
import { Prose } from "../../ui/Prose";
import { alike } from "./present";
import { isRunning, jobQuery, type Rehearsal, useApply, useGiveUp } from "./queries";

interface Props {
  plan: Plan;
  found: Rehearsal | undefined;
}

/** Having a plan done: what gets worse needs a yes, each by its name. */
export function Doing({ plan, found }: Props) {
  const [params, setParams] = useSearchParams();
  const apply = useApply(plan.id);
  const [yes, setYes] = useState<string[]>([]);
  const [minutes, setMinutes] = useState(0);
  const job = params.get("job");
  if (job) return <Progress id={Number(job)} plan={plan.id} />;
  if (!found || plan.entry !== null) return null;
  const worse = found.worse.filter((each) => !yes.includes(each.name));
  const nothing = found.standings.every((each) => each === "done");
  const go = (password: string) =>
    apply.mutate(
      { although: yes, password, minutes },
      { onSuccess: (started) => setParams({ plan: String(plan.id), job: String(started.id) }) },
    );
  return (
    <section aria-label="Have it done" className="mt-5 max-w-4xl border-l-4 border-ink pl-4">
      {alike(found.worse).map((each) => (
        <label key={each.kind} className="flex items-baseline gap-2">
          <input
            type="checkbox"
            checked={each.names.every((name) => yes.includes(name))}
            onChange={(event) =>
              setYes([
                ...yes.filter((name) => !each.names.includes(name)),
                ...(event.target.checked ? each.names : []),
              ])
            }
          />
          <span>
            Although <Prose text={each.words} />
            {each.names.length > 1 && `, and ${each.names.length - 1} more of this kind`}
          </span>
        </label>
      ))}
      {!found.stale && !nothing && <Within minutes={minutes} set={setMinutes} />}
      <Confirm
        label="Do it"
        disabled={found.stale || nothing || worse.length > 0 || apply.isPending}
        error={apply.error}
        go={go}
      />
      <p className="mt-1 text-sm text-faint">
        {found.stale
          ? "The server is not as this plan expects it any more: nothing can be done."
          : nothing
            ? "All of it is done already."
            : worse.length
              ? "It makes something worse: say yes to each first."
              : "Each step is written down before it is done, and all of it can be taken back."}
      </p>
    </section>
  );
}

const WITHIN: ReadonlyArray<readonly [minutes: number, words: string]> = [
  [0, "it stays"],
  [2, "2 minutes"],
  [10, "10 minutes"],
  [60, "an hour"],
];

/** For those who might lock themselves out: what nobody keeps is taken back by itself. */
function Within({ minutes, set }: { minutes: number; set: (minutes: number) => void }) {
  return (
    <fieldset className="mt-1 flex flex-wrap items-baseline gap-x-4">
      <legend className="float-left mr-1">Unless it is kept, taken back by itself after</legend>
      {WITHIN.map(([count, words]) => (
        <label key={count} className="flex items-baseline gap-1.5">
          <input
            type="radio"
            name="within"
            checked={minutes === count}
            onChange={() => set(count)}
          />
          {count === 0 ? `never: ${words}` : words}
        </label>
      ))}
    </fieldset>
  );
}

interface ConfirmProps {
  label: string;
  disabled: boolean;
  error: Error | null;
  go: (password: string) => void;
}

/** A button; and a password where the last one was said too long ago. */
export function Confirm({ label, disabled, error, go }: ConfirmProps) {
  const [password, setPassword] = useState("");
  const wanted = error instanceof Problem && error.status === 403;
  return (
    <form
      className="mt-2 flex flex-wrap items-baseline gap-3"
      onSubmit={(event) => {
        event.preventDefault();
        go(password);
      }}
    >
      {wanted && (
        <label className="text-sm">
          Your password{" "}
          <input
            type="password"
            autoComplete="current-password"
            value={password}
            onChange={(event) => setPassword(event.target.value)}
            className="border-b border-ink bg-sheet px-1"
          />
        </label>
      )}
      <Button type="submit" disabled={disabled} className="font-medium">
        {label}
      </Button>
      {error && (
        <span role="alert" className="text-sm text-blocked">
          {error.message}
        </span>
      )}
    </form>
  );
}

const ENDED: Partial<Record<string, string>> = {
  done: "Done, and the server was surveyed anew.",
  cancelled: "Given up: what was begun of it was taken back.",
};

/** How far it is, as it happens; the job's number stands in the address. */
export function Progress({ id, plan }: { id: number; plan?: number }) {
  const job = useQuery(jobQuery(id));
  const plans = useQuery(plansQuery);
  const queries = useQueryClient();
  const put = usePut();
  const giveUp = useGiveUp(id);
  const running = isRunning(job.data);
  useEffect(() => {
    if (!running) {
      queries.invalidateQueries({ predicate: (query) => query.queryKey[0] !== "job" });
    }
  }, [running, queries]);
  if (!job.data) return null;
  const { doing, done = 0, total = 0, error, state } = job.data;
  const entry = plans.data?.find((each) => each.id === plan)?.entry;
  return (
    <section aria-label="What is being done" className="mt-5 max-w-4xl border-l-4 border-ink pl-4">
      <p role="status" className={`text-lg ${error ? "text-blocked" : ""}`}>
        {error || ENDED[state ?? ""] || `${doing} …`}
      </p>
      {running && total > 0 && (
        <progress value={done} max={total} aria-label="Steps" className="mt-1 w-80" />
      )}
      {running && plan !== undefined && (
        <p className="mt-2 flex items-baseline gap-3">
          <Button onClick={() => giveUp.mutate()} disabled={giveUp.isPending || giveUp.isSuccess}>
            Give it up
          </Button>
          <span className="text-sm text-faint">
            {giveUp.isSuccess
              ? "At its next step; once the engine reads again, it is done."
              : "What was begun of it is taken back."}
          </span>
        </p>
      )}
      {!running && (
        <p className="mt-1 flex gap-4">
          {entry && (
            <Link className="underline" to={`/changes?entry=${entry}`}>
              as it stands in the ledger
            </Link>
          )}
          <button type="button" className="cursor-pointer underline" onClick={() => put("job", "")}>
            back to the plan
          </button>
        </p>
      )}
    </section>
  );
}
