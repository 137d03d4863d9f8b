import { useQuery } from "@tanstack/react-query";
import { Link, useSearchParams } from "react-router";
import { usePut } from "../../lib/params";
import { moment, plural } from "../../lib/text";
import { OnlyWith } from "../../ui/OnlyWith";
import { Prose } from "../../ui/Prose";
import { Failed, Waiting } from "../../ui/States";
import { counted, PARTS, type Part, withWords } from "./present";
import { type Change, type Changed, changesQuery } from "./queries";

const SHOWN = 12;

/** What changed between two surveys: what visitors meet first, then what was done. */
export function SincePage() {
  const [params] = useSearchParams();
  const put = usePut();
  const found = useQuery(changesQuery(params.get("at") ?? "latest", params.get("since")));
  const words = params.get("q") ?? "";
  if (found.isPending) return <Waiting>Laying both surveys beside each other</Waiting>;
  if (found.isError) return <Failed error={found.error} retry={found.refetch} />;
  const { before, after, changes } = found.data;
  return (
    <div className="h-full overflow-auto px-8 py-6">
      <div className="mx-auto max-w-5xl">
        <header className="mb-5 flex items-baseline gap-8">
          <h1 className="text-2xl font-medium">
            What changed on <span className="mono">{after.host}</span>
          </h1>
          <span className="ml-auto">
            <OnlyWith words={words} put={(text) => put("q", text, true)} />
          </span>
        </header>
        <p className="mb-6 text-faint">
          From {moment(before.taken_at)} to {moment(after.taken_at)}.{" "}
          <Link className="underline" to="/surveys">
            Choose other surveys
          </Link>
        </p>
        <div className="space-y-8">
          {PARTS.map(([part, title]) => (
            <Kind key={part} title={title} part={part} changed={changes[part]} words={words} />
          ))}
        </div>
      </div>
    </div>
  );
}

interface KindProps {
  title: string;
  part: Part;
  changed: Changed;
  words: string;
}

function Kind({ title, part, changed, words }: KindProps) {
  const shown = withWords(changed.changes, words);
  const rest = shown.slice(SHOWN);
  const list = (changes: Change[]) => (
    <ul className="space-y-2">
      {changes.map((change) => (
        <li key={`${change.what} ${change.subject} ${change.aspect}`}>
          <Line change={change} part={part} />
        </li>
      ))}
    </ul>
  );
  return (
    <section aria-label={title}>
      <h2 className="mb-2 flex items-baseline gap-3 border-b border-line text-lg font-medium">
        {title}
        <span className="text-sm font-normal text-faint">
          {counted(shown) || (words ? "none with these words" : "nothing changed")}
        </span>
      </h2>
      {list(shown.slice(0, SHOWN))}
      {rest.length > 0 && (
        <details className="mt-2">
          <summary className="cursor-pointer text-sm text-faint">and {rest.length} more</summary>
          <div className="mt-2">{list(rest)}</div>
        </details>
      )}
      {changed.more > 0 && (
        <p className="mt-2 text-sm text-faint">{changed.more} more are not listed here.</p>
      )}
    </section>
  );
}

const TONES: Record<string, string> = {
  new: "border-ink",
  gone: "border-dashed border-skipped",
  changed: "border-dotted border-diverted",
};

function Line({ change, part }: { change: Change; part: Part }) {
  const subject = part === "findings" ? "break-words" : "mono wrap-anywhere font-semibold";
  return (
    <div className={`grid grid-cols-[5rem_1fr] gap-3 border-l-4 pl-3 ${TONES[change.what]}`}>
      <span className="text-sm text-faint">{change.what}</span>
      <div className="min-w-0">
        <span className={subject}>
          {part === "findings" ? <Prose text={change.subject} /> : change.subject}
        </span>
        {change.aspect && part !== "passages" && (
          <span className="ml-2 text-sm text-faint">{change.aspect}</span>
        )}
        {(change.within ?? 0) > 0 && (
          <span className="ml-2 text-sm text-faint">
            with {plural(change.within ?? 0, "path")} below
          </span>
        )}
        <Sides change={change} prose={part === "passages"} />
      </div>
    </div>
  );
}

/** Before and after, each on a line of its own. */
function Sides({ change, prose }: { change: Change; prose: boolean }) {
  const text = (words: string) => (prose ? <Prose text={words} /> : words);
  const kind = prose ? "break-words" : "mono wrap-anywhere text-sm";
  return (
    <>
      {change.before && (
        <span className={`block text-faint ${kind}`}>
          <span className="sr-only">before: </span>
          {text(change.before)}
        </span>
      )}
      {change.after && (
        <span className={`block ${kind}`}>
          {change.before && <span className="mr-1.5 text-faint">now</span>}
          {text(change.after)}
        </span>
      )}
    </>
  );
}
