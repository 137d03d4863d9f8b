import { useSearchParams } from "react-router";
import { usePut } from "../../lib/params";
import { moment, plural } from "../../lib/text";
import { Prose } from "../../ui/Prose";
import { Confirm, Progress } from "./Doing";
import { STATES } from "./present";
import { type Entry, useKeep, useUndo, waits } from "./queries";

/** An entry of the ledger: what was done, how it went, and taking it back. */
export function EntryView({ entry }: { entry: Entry }) {
  const [params] = useSearchParams();
  const job = params.get("job");
  const other = entry.checked.filter((each) => String(each.rehearsed) !== each.came);
  return (
    <article className="max-w-4xl px-8 py-5">
      <h1 className="mb-1 text-2xl font-medium break-words">{entry.title}</h1>
      <p className="mb-4 text-faint">
        Entry {entry.id}, {moment(new Date(entry.at * 1000).toISOString())}, asked for by{" "}
        <span className="mono">{entry.who}</span>
      </p>
      <p className={`mb-4 border-l-4 py-0.5 pl-3 text-lg ${STATES[entry.state] ?? ""}`}>
        <span className="font-medium">{entry.state}</span>
        <span className="ml-3">{entry.said}</span>
      </p>
      {waits(entry) && <Keep entry={entry} />}
      {entry.checked.length > 0 && (
        <section aria-label="Asked afterwards" className="mb-5">
          <h2 className="font-medium">
            {other.length
              ? `Not as rehearsed: ${plural(other.length, "page")} of ${entry.checked.length}`
              : `As rehearsed: ${plural(entry.checked.length, "page")} asked afterwards`}
          </h2>
          <ul>
            {entry.checked.map((each) => (
              <li
                key={each.url}
                className="grid grid-cols-[minmax(0,1fr)_8rem_8rem] gap-3 py-0.5 text-sm"
              >
                <span className="mono truncate">{each.url}</span>
                <span className="text-faint">rehearsed {each.rehearsed ?? "nothing"}</span>
                <span
                  className={String(each.rehearsed) === each.came ? "text-clear" : "text-blocked"}
                >
                  came {each.came ?? (each.trouble || "nothing")}
                </span>
              </li>
            ))}
          </ul>
        </section>
      )}
      {job ? <Progress id={Number(job)} /> : entry.state === "done" && <Undo entry={entry} />}
      <section aria-label="Steps" className="mt-6">
        <h2 className="mb-2 border-b border-line text-lg font-medium">
          {plural(entry.steps.length, "step")}
        </h2>
        <ol className="list-decimal pl-8">
          {entry.steps.slice(0, 200).map((step) => (
            <li key={step} className="break-words">
              <Prose text={step} />
            </li>
          ))}
        </ol>
      </section>
    </article>
  );
}

function Keep({ entry }: { entry: Entry }) {
  const keep = useKeep(entry.id);
  const until = moment(new Date((entry.until ?? 0) * 1000).toISOString());
  return (
    <section aria-label="Keep it" className="mb-5 border-l-4 border-dotted border-unsure pl-3">
      <p>
        Unless it is kept, it is taken back by itself at <span className="mono">{until}</span>.
      </p>
      <Confirm
        label="Keep it"
        disabled={keep.isPending}
        error={keep.error}
        go={(password) => keep.mutate({ password })}
      />
    </section>
  );
}

function Undo({ entry }: { entry: Entry }) {
  const undo = useUndo(entry.id);
  const put = usePut();
  return (
    <section aria-label="Take it back">
      <Confirm
        label="Take it back"
        disabled={undo.isPending}
        error={undo.error}
        go={(password) =>
          undo.mutate({ password }, { onSuccess: (started) => put("job", String(started.id)) })
        }
      />
      <p className="mt-1 text-sm text-faint">
        Every path, mode, ACL, context and byte as before, unless somebody changed it since.
      </p>
    </section>
  );
}
