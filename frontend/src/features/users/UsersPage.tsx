import { useMutation, useQuery } from "@tanstack/react-query";
import { Link, useSearchParams } from "react-router";
import { usePut } from "../../lib/params";
import { plural } from "../../lib/text";
import { Button } from "../../ui/Button";
import { Choice } from "../../ui/Choice";
import { OnlyWith } from "../../ui/OnlyWith";
import { Failed, Waiting } from "../../ui/States";
import { Ways } from "../../ui/Ways";
import { Account } from "./Account";
import { Conditions } from "./Conditions";
import { Exposed, Neighbours } from "./Neighbours";
import { sortedBy, withWords } from "./present";
import { planFor, type Template, usersQuery } from "./queries";

const VIEWS = [
  ["conditions", "conditions"],
  ["neighbours", "neighbours"],
] as const;

/** Every account against what a personal site needs, in the order in which it bites. */
export function UsersPage() {
  const [params, setParams] = useSearchParams();
  const put = usePut();
  const found = useQuery(usersQuery);
  const plan = useMutation({ mutationFn: planFor });
  const words = params.get("q") ?? "";
  const by = params.get("by") ?? "";
  const chosen = params.get("account");
  const picked = params.getAll("pick");
  const view = params.get("view") ?? "conditions";
  if (found.isPending) return <Waiting>Trying every account</Waiting>;
  if (found.isError) return <Failed error={found.error} retry={found.refetch} />;
  const pick = (accounts: string[]) => {
    plan.reset();
    const next = new URLSearchParams(window.location.search);
    next.delete("pick");
    for (const account of accounts) next.append("pick", account);
    setParams(next);
  };
  const { users, conditions, template } = found.data;
  const shown = sortedBy(withWords(users, words), by);
  const user = users.find((each) => each.account === chosen);
  return (
    <div className="grid h-full grid-cols-[1fr_24rem]">
      <section aria-label="Accounts" className="flex min-h-0 flex-col">
        <div className="flex items-baseline gap-6 px-5 py-3">
          <h1 className="sr-only">User sites</h1>
          <Choice
            words="show"
            label="Show"
            value={view}
            options={VIEWS}
            choose={(value) => put("view", value === "conditions" ? "" : value)}
          />
          {view === "conditions" && <OnlyWith words={words} put={(text) => put("q", text, true)} />}
          <p role="status" className="ml-auto text-sm text-faint">
            {users.filter((each) => !each.first).length} of {plural(users.length, "account")} answer
          </p>
        </div>
        <div className="min-h-0 flex-1 overflow-auto px-5 pb-6">
          {view === "neighbours" ? (
            <Neighbours />
          ) : (
            <Conditions
              users={shown}
              conditions={conditions}
              by={by}
              sort={(name) => put("by", name === by ? "" : name)}
              chosen={chosen}
              choose={(account) => put("account", account)}
              picked={picked}
              pick={pick}
            />
          )}
        </div>
      </section>
      <aside
        aria-label="Evidence"
        className="min-h-0 space-y-6 overflow-auto border-l border-line bg-sheet px-5 py-4"
      >
        {picked.length > 0 && (
          <section aria-label="One plan" className="space-y-3">
            <h2 className="text-xl font-medium">{plural(picked.length, "account")} picked</h2>
            <div className="flex gap-3">
              <Button onClick={() => plan.mutate(picked)} disabled={plan.isPending}>
                One plan for all
              </Button>
              <Button onClick={() => pick([])}>None</Button>
            </div>
            {plan.isError && <p className="text-blocked">{plan.error.message}</p>}
            {plan.data && plan.data.ways.length === 0 && (
              <p>No change of owners, modes or contexts alone mends these.</p>
            )}
            {plan.data && <Ways ways={plan.data.ways} />}
          </section>
        )}
        {user && <Account user={user} conditions={conditions} />}
        {!user && chosen && <NoSite account={chosen} />}
        {!user && view === "neighbours" && <Exposed />}
        {!user && !chosen && view !== "neighbours" && picked.length === 0 && <Hint />}
        {template && view !== "neighbours" && <NewAccounts template={template} />}
      </aside>
    </div>
  );
}

/** An account that was looked up and is no row: it is no person's, or no personal sites are served. */
function NoSite({ account }: { account: string }) {
  return (
    <article aria-label="Account" className="space-y-2">
      <h2 className="mono text-xl font-semibold">{account}</h2>
      <p>No personal site is served for this account.</p>
      <p>
        <Link className="underline" to={`/?${new URLSearchParams({ by: "owner", q: account })}`}>
          sites with its name, by owner
        </Link>
      </p>
    </article>
  );
}

function Hint() {
  return (
    <div className="space-y-2 text-faint">
      <h2 className="text-xl font-medium text-ink">Who has a page that answers?</h2>
      <p>
        A row is an account, a column one thing that its site needs. A shut gate is where a visitor
        is stopped first; a hollow one would stop them next.
      </p>
      <p>Choose a row for its reasons. Pick several, and mend them in one plan.</p>
    </div>
  );
}

function NewAccounts({ template }: { template: Template }) {
  const lacks = template.lacks ?? [];
  return (
    <section aria-label="New accounts" className="space-y-1 border-t border-line pt-4">
      <h3 className="text-sm text-faint">
        What a new account gets{template.maker && ` by ${template.maker}`}, from{" "}
        <span className="mono">{template.skeleton}</span>
      </h3>
      {lacks.length === 0 ? (
        <p>A page that answers.</p>
      ) : (
        <ul className="space-y-1 text-blocked">
          {lacks.map((each) => (
            <li key={each} className="break-words">
              {each}.
            </li>
          ))}
        </ul>
      )}
      {(template.mends ?? []).map((each) => (
        <p key={each} className="border-l-2 border-clear pl-2 text-clear">
          {each}.
        </p>
      ))}
    </section>
  );
}
