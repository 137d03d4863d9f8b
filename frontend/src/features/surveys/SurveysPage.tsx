import { useQuery, useQueryClient } from "@tanstack/react-query";
import { useEffect, useState } from "react";
import { Link, useSearchParams } from "react-router";
import { cut, moment, plural } from "../../lib/text";
import { Button } from "../../ui/Button";
import { Failed, Waiting } from "../../ui/States";
import {
  isRunning,
  jobQuery,
  type Survey,
  surveysQuery,
  useCancel,
  useLoad,
  useRemove,
} from "./queries";

/** The surveys that are here, and loading another. The job's number stands in the address. */
export function SurveysPage() {
  const surveys = useQuery(surveysQuery);
  const [params, setParams] = useSearchParams();
  const job = params.get("job");
  const load = useLoad();
  const choose = (file: File | undefined) => {
    if (!file) return;
    load.mutate(file, { onSuccess: (started) => setParams({ job: String(started.id) }) });
  };
  return (
    <div className="mx-auto max-w-4xl space-y-6 p-8">
      <h1 className="text-2xl font-medium">Surveys</h1>
      <section aria-label="Load a survey" className="space-y-2">
        <p>
          Take one on the server with <code>sudo ecumen survey --out here.survey</code>, then load
          the file.
        </p>
        <label className="inline-block cursor-pointer border border-ink bg-sheet px-3 py-1 focus-within:outline-2 focus-within:outline-clear hover:bg-shoal">
          Load a survey file
          <input
            type="file"
            accept=".survey"
            className="sr-only"
            onChange={(event) => choose(event.target.files?.[0])}
          />
        </label>
        {load.isError && (
          <p role="alert" className="text-blocked">
            {load.error.message}
          </p>
        )}
        {job && <JobProgress id={Number(job)} />}
      </section>
      {surveys.isPending && <Waiting>Looking for surveys</Waiting>}
      {surveys.isError && <Failed error={surveys.error} retry={surveys.refetch} />}
      {surveys.data && <SurveyList surveys={surveys.data} />}
    </div>
  );
}

function JobProgress({ id }: { id: number }) {
  const job = useQuery(jobQuery(id));
  const cancel = useCancel(id);
  const queries = useQueryClient();
  const done = job.data?.state === "done";
  useEffect(() => {
    if (done) {
      queries.invalidateQueries({ queryKey: ["surveys"] });
      queries.invalidateQueries({ queryKey: ["sites"] });
    }
  }, [done, queries]);
  if (!job.data) return null;
  const { doing, done: steps = 0, total = 0, error } = job.data;
  return (
    <div role="status" className="flex items-center gap-4">
      <span>
        {error || doing}
        {total > 0 && isRunning(job.data) ? `, ${steps} of ${total}` : ""}
      </span>
      {isRunning(job.data) && (
        <>
          <progress value={total ? steps : undefined} max={total || 1} aria-label="Loading" />
          <Button onClick={() => cancel.mutate()}>Cancel</Button>
        </>
      )}
    </div>
  );
}

function SurveyList({ surveys }: { surveys: Survey[] }) {
  if (!surveys.length) return <p className="text-faint">No survey is loaded yet.</p>;
  return (
    <>
      <p className="text-faint">The one on top, taken last, is the one that is shown.</p>
      <ol className="divide-y divide-line border-y border-line">
        {surveys.map((survey, number) => (
          <li
            key={survey.id}
            className="grid grid-cols-[10rem_12rem_minmax(0,1fr)_auto_auto] items-baseline gap-4 py-2"
          >
            <span className="mono font-semibold wrap-anywhere">{cut(survey.host)}</span>
            <span>{moment(survey.taken_at)}</span>
            <span className="text-faint">
              {plural(survey.paths, "path")}
              {Array.isArray(survey.gaps) && survey.gaps.length > 0
                ? `, ${plural(survey.gaps.length, "gap")}`
                : ", no gaps"}
              {survey.missing && (
                <span className="block text-blocked">
                  Its file is gone: load it again, or remove it.
                </span>
              )}
              {survey.origin === "unknown" && !survey.missing && (
                <span className="block">
                  Not proven to be of this machine: its logs are not read, its server is not asked.
                </span>
              )}
            </span>
            <Since survey={survey} earlier={earlier(surveys.slice(number + 1), survey)} />
            <Remove survey={survey} />
          </li>
        ))}
      </ol>
    </>
  );
}

/** Takes a survey out of the store; asked once more, as it cannot be taken back. */
function Remove({ survey }: { survey: Survey }) {
  const remove = useRemove();
  const [sure, setSure] = useState(false);
  if (!sure) return <Button onClick={() => setSure(true)}>Remove</Button>;
  return (
    <span className="flex items-baseline justify-end gap-2">
      <Button onClick={() => remove.mutate(survey.id)} disabled={remove.isPending}>
        Remove it for good
      </Button>
      <Button onClick={() => setSure(false)}>Keep</Button>
      {remove.isError && (
        <span role="alert" className="text-blocked">
          {remove.error.message}
        </span>
      )}
    </span>
  );
}

/** The surveys of the same server that were taken before. */
function earlier(surveys: Survey[], survey: Survey): Survey[] {
  return surveys.filter((each) => each.host === survey.host && each.taken_at < survey.taken_at);
}

/** Leads to what changed up to a survey, since one of those before it. */
function Since({ survey, earlier }: { survey: Survey; earlier: Survey[] }) {
  const [since, setSince] = useState(earlier[0]?.id);
  if (!earlier.length) return <span />;
  const address = new URLSearchParams({ at: String(survey.id), since: String(since) });
  return (
    <span className="flex items-baseline gap-2">
      <Link className="underline" to={`/surveys/changes?${address}`}>
        what changed
      </Link>
      {earlier.length > 1 && (
        <label className="text-sm text-faint">
          since{" "}
          <select
            value={since}
            onChange={(event) => setSince(Number(event.target.value))}
            className="border-b border-ink bg-paper text-ink"
          >
            {earlier.map((each) => (
              <option key={each.id} value={each.id}>
                {moment(each.taken_at)}
              </option>
            ))}
          </select>
        </label>
      )}
    </span>
  );
}
