import { useQuery } from "@tanstack/react-query";
import { Link, useSearchParams } from "react-router";
import { type Plan, plansQuery } from "../../api/plans";
import { cut, moment, plural } from "../../lib/text";
import { Failed, Note, Waiting } from "../../ui/States";
import { EntryView } from "./EntryView";
import { PlanView } from "./PlanView";
import { STATES } from "./present";
import { type Entry, ledgerQuery, waits } from "./queries";

/** Plans that are being written, and the ledger of what was done. */
export function ChangesPage() {
  const [params] = useSearchParams();
  const plans = useQuery(plansQuery);
  const ledger = useQuery(ledgerQuery);
  if (plans.isPending || ledger.isPending) return <Waiting>Opening the ledger</Waiting>;
  if (plans.isError) return <Failed error={plans.error} retry={plans.refetch} />;
  if (ledger.isError) return <Failed error={ledger.error} retry={ledger.refetch} />;
  const drafts = plans.data.filter((plan) => plan.entry === null);
  const { entries, trouble } = ledger.data;
  const wanted = params.get("plan");
  const entry = entries.find((each) => String(each.id) === params.get("entry"));
  const chosen = plans.data.find((each) => String(each.id) === wanted);
  const plan = chosen ?? (entry || wanted ? undefined : drafts[0]);
  return (
    <div className="grid h-full grid-cols-[19rem_1fr]">
      <nav
        aria-label="Plans and the ledger"
        className="overflow-auto border-r border-line px-5 py-4"
      >
        <h2 className="mb-2 font-medium">Being written</h2>
        <Drafts drafts={drafts} chosen={plan} />
        <h2 className="mt-6 mb-2 font-medium">The ledger</h2>
        {trouble && <p className="text-sm text-faint">{trouble}.</p>}
        <Ledger entries={entries} chosen={entry} />
      </nav>
      <div className="min-h-0 overflow-auto">
        {plan ? (
          <PlanView key={plan.id} plan={plan} />
        ) : entry ? (
          <EntryView key={entry.id} entry={entry} />
        ) : (
          <Note title={wanted ? "There is no such plan" : "No plan is being written"}>
            <p>
              What mends something stands with each finding, each passage and each account: “Add to
              the plan” puts it here. Nothing is done before it was rehearsed, and you said so.
            </p>
          </Note>
        )}
      </div>
    </div>
  );
}

function Drafts({ drafts, chosen }: { drafts: Plan[]; chosen: Plan | undefined }) {
  if (!drafts.length) return <p className="text-sm text-faint">None.</p>;
  return (
    <ul className="space-y-1">
      {drafts.map((plan) => (
        <li key={plan.id}>
          <Link
            to={`/changes?plan=${plan.id}`}
            aria-current={plan.id === chosen?.id ? "true" : undefined}
            className="block border-l-4 border-dotted border-ink py-0.5 pl-3 hover:bg-shoal aria-[current]:bg-shoal"
          >
            <span className="block break-words">{cut(plan.title, 80)}</span>
            <span className="text-sm text-faint">
              {plural(plan.steps.length, "step")}, by {cut(plan.by, 24)}
            </span>
          </Link>
        </li>
      ))}
    </ul>
  );
}

function Ledger({ entries, chosen }: { entries: Entry[]; chosen: Entry | undefined }) {
  if (!entries.length) return <p className="text-sm text-faint">Nothing was changed yet.</p>;
  return (
    <ol className="space-y-1">
      {entries.map((entry) => (
        <li key={entry.id}>
          <Link
            to={`/changes?entry=${entry.id}`}
            aria-current={entry.id === chosen?.id ? "true" : undefined}
            className={`block border-l-4 py-0.5 pl-3 hover:bg-shoal aria-[current]:bg-shoal ${STATES[entry.state] ?? ""}`}
          >
            <span className="block break-words">{cut(entry.title, 80)}</span>
            <span className="text-sm text-faint">
              {waits(entry) ? "waits to be kept" : entry.state},{" "}
              {moment(new Date(entry.at * 1000).toISOString())}
            </span>
          </Link>
        </li>
      ))}
    </ol>
  );
}
