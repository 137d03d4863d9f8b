import { keepPreviousData, useQuery } from "@tanstack/react-query";
import { useSearchParams } from "react-router";
import { client, type Schemas, take } from "../../api/client";
import { plural } from "../../lib/text";
import { Copy } from "../../ui/Copy";
import { Ladder } from "../../ui/Ladder";
import { Prose } from "../../ui/Prose";
import { Failed, Note, Waiting } from "../../ui/States";

type May = Schemas["May"];
type Answer = Schemas["WhoMay"];

/** Who may: every account against one path, with the step that decides. */
export function WhoPage() {
  const [params, setParams] = useSearchParams();
  const path = params.get("path") ?? "";
  const account = params.get("as") ?? "";
  const choose = (name: string) => setParams({ path, as: name });
  const found = useQuery({
    queryKey: ["who", path, account],
    placeholderData: keepPreviousData,
    queryFn: async () =>
      take(
        await client.GET("/api/surveys/{survey}/who", {
          params: { path: { survey: "latest" }, query: { path, as: account } },
        }),
      ),
    enabled: path !== "",
  });
  if (!path) {
    return (
      <Note title="Who may?">
        <p>Type a path in the line above: every account is tried on it.</p>
      </Note>
    );
  }
  if (found.isPending) return <Waiting>Trying every account</Waiting>;
  if (found.isError) return <Failed error={found.error} retry={found.refetch} />;
  return (
    <div className="h-full overflow-auto px-8 py-6">
      <div className="mx-auto max-w-5xl space-y-8">
        <header>
          <h1 className="text-2xl font-medium">
            Who may, at <span className="mono wrap-anywhere">{found.data.path}</span>{" "}
            <Copy text={found.data.path} label="the path" />
          </h1>
          <p className="text-faint">{found.data.kind ?? "not in the survey"}</p>
        </header>
        {account && found.data.rungs.length > 0 && (
          <section aria-label={`The way down for ${account}`}>
            <h2 className="mb-1 text-lg font-medium">
              The way down for <span className="mono">{account}</span>
            </h2>
            <Ladder rungs={found.data.rungs} />
          </section>
        )}
        {found.data.may.map((may) => (
          <Need key={may.need} may={may} choose={choose} />
        ))}
      </div>
    </div>
  );
}

interface NeedProps {
  may: May;
  choose: (account: string) => void;
}

function Need({ may, choose }: NeedProps) {
  const able = may.answers.filter((answer) => answer.allowed);
  const count = able.reduce((sum, answer) => sum + answer.accounts.length, 0);
  return (
    <section aria-label={may.words}>
      <h2 className="mb-2 flex items-baseline gap-3 border-b border-line text-lg font-medium">
        {may.words}
        <span className="text-sm font-normal text-faint">
          {count ? `${plural(count, "account")} may` : "nobody may"}
        </span>
      </h2>
      <ul className="space-y-2">
        {may.answers.map((answer) => (
          <li
            key={`${answer.step} ${answer.by} ${answer.line} ${answer.allowed}`}
            className={`grid grid-cols-[5.5rem_minmax(0,1fr)] gap-3 border-l-4 pl-3 ${answer.allowed ? "border-clear" : "border-dashed border-skipped"}`}
          >
            <span className={answer.allowed ? "font-medium text-clear" : "text-faint"}>
              {answer.allowed === null ? "not known" : answer.allowed ? "may" : "may not"}
            </span>
            <Told answer={answer} choose={choose} />
          </li>
        ))}
      </ul>
    </section>
  );
}

const SHOWN = 8;

function Told({ answer, choose }: { answer: Answer; choose: NeedProps["choose"] }) {
  const rest = answer.accounts.slice(SHOWN);
  return (
    <div className="min-w-0">
      <Names names={answer.accounts.slice(0, SHOWN)} choose={choose} />
      {rest.length > 0 && (
        <details className="inline">
          <summary className="ml-2 inline cursor-pointer text-sm text-faint">
            and {rest.length} more
          </summary>
          <span className="block">
            <Names names={rest} choose={choose} />
          </span>
        </details>
      )}
      <span className="block text-sm break-words text-faint">
        <Prose text={answer.why} />
      </span>
    </div>
  );
}

/** Accounts; each can be chosen for its own way down. */
function Names({ names, choose }: { names: string[]; choose: NeedProps["choose"] }) {
  return names.map((name) => (
    <button
      key={name}
      type="button"
      onClick={() => choose(name)}
      className="mono mr-3 cursor-pointer wrap-anywhere underline decoration-line underline-offset-3 hover:decoration-ink"
    >
      {name}
    </button>
  ));
}
