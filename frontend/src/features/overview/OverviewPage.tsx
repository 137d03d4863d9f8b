import { useQuery } from "@tanstack/react-query";
import { Link, useSearchParams } from "react-router";
import { Problem } from "../../api/client";
import { usePut } from "../../lib/params";
import { cut, moment, plural } from "../../lib/text";
import { Failed, Note, Waiting } from "../../ui/States";
import { Breaks } from "./Breaks";
import { Field } from "./Field";
import { FindingPane } from "./FindingPane";
import { type Grouping, matching } from "./present";
import { Queue } from "./Queue";
import { sitesQuery } from "./queries";
import { Tools } from "./Tools";

const GROUPINGS: Grouping[] = ["kind", "binding", "owner", "volume"];

/** Every site in one field; what is in trouble stands out. The question: where do I start? */
export function OverviewPage() {
  const overview = useQuery(sitesQuery);
  const [params] = useSearchParams();
  const words = params.get("q") ?? "";
  const by = GROUPINGS.find((each) => each === params.get("by")) ?? "kind";
  const put = usePut();
  const set = (key: string, value: string) => put(key, value, key === "q");
  if (overview.isPending) return <Waiting>Reading the survey</Waiting>;
  if (overview.isError) return <Nothing error={overview.error} retry={overview.refetch} />;
  const { survey, sites } = overview.data;
  const finding = params.get("finding");
  const shown = words ? matching(sites, words) : sites;
  return (
    <div className="grid h-full grid-cols-[minmax(0,1fr)_24rem]">
      <section aria-label="Sites" className="flex min-h-0 flex-col">
        <Tools words={words} by={by} set={set} shown={shown.length} all={sites.length} />
        <Breaks breaks={survey.breaks} />
        <Field sites={shown} by={by} all={params.get("all") === "true" || words !== ""} />
      </section>
      <aside
        aria-label="Findings"
        className="min-h-0 overflow-auto border-l border-line bg-sheet px-5 py-4"
      >
        {finding ? <FindingPane id={finding} back={back(params)} /> : <Queue words={words} />}
        <p className="mt-6 border-t border-line pt-3 text-sm text-faint">
          {plural(sites.length, "site")} on <span className="mono">{cut(survey.host)}</span>, as it
          was on {moment(survey.taken_at)}
        </p>
      </aside>
    </div>
  );
}

/** The same picture with no finding chosen. */
function back(params: URLSearchParams): string {
  const next = new URLSearchParams(params);
  next.delete("finding");
  return `/?${next}`;
}

function Nothing({ error, retry }: { error: Error; retry: () => void }) {
  if (!(error instanceof Problem && error.status === 404)) {
    return <Failed error={error} retry={retry} />;
  }
  return (
    <Note title="No survey yet">
      <p>
        On the server, as root: <code>ecumen survey --out here.survey</code>
      </p>
      <p>
        Then{" "}
        <Link className="underline" to="/surveys">
          load the file
        </Link>
        .
      </p>
    </Note>
  );
}
