import { useQuery } from "@tanstack/react-query";
import { Link, useSearchParams } from "react-router";
import { plural } from "../../lib/text";
import { Copy } from "../../ui/Copy";
import { FindingList } from "../../ui/FindingList";
import { Prose } from "../../ui/Prose";
import { Source } from "../../ui/Source";
import { Failed, Note, Waiting } from "../../ui/States";
import { Names } from "./Names";
import { marked, type Word } from "./present";
import {
  type BriefFinding,
  type Evidence,
  type Sheet,
  type SheetDoor,
  type SheetLine,
  siteQuery,
} from "./queries";
import { Sight } from "./Sight";

/** One site whole: how it is reached, where it lives, what is wrong, and what it is made of. */
export function SitePage() {
  const [params] = useSearchParams();
  const at = params.get("at") ?? "";
  const found = useQuery(siteQuery(at, params.get("name") ?? ""));
  if (!at) {
    return (
      <Note title="No site is chosen">
        <p>Follow an address, and choose the site that answers.</p>
      </Note>
    );
  }
  if (found.isPending) return <Waiting>Reading the site</Waiting>;
  if (found.isError) return <Failed error={found.error} retry={found.refetch} />;
  const { sheet, findings } = found.data;
  return (
    <div className="grid h-full grid-cols-[1fr_24rem]">
      <div className="min-h-0 space-y-6 overflow-auto px-6 py-5">
        <Head sheet={sheet} />
        <Reached doors={sheet.doors} />
        <MadeOf sheet={sheet} />
      </div>
      <aside
        aria-label="About the site"
        className="min-h-0 space-y-6 overflow-auto border-l border-line bg-sheet px-5 py-4"
      >
        <Wrong findings={findings} />
        {!params.get("name") && <Sight at={at} front={sheet.front} />}
        {!params.get("name") && <Names key={at} at={at} />}
        <Visited logKey={found.data.log_key} requests={found.data.requests_a_day} />
        <Lives sheet={sheet} />
      </aside>
    </div>
  );
}

/** What its log says, in short. */
function Visited({ logKey, requests }: { logKey: string | null; requests: number | null }) {
  if (logKey === null) return null;
  return (
    <section aria-label="What its log says">
      <h2 className="mb-1 text-sm text-faint">What its log says</h2>
      <p>
        {requests === null ? "" : `${plural(requests, "request")} a day in the last week: `}
        <Link className="underline" to={`/logs?${new URLSearchParams({ site: logKey })}`}>
          why some failed
        </Link>
        {", "}
        <Link
          className="underline"
          to={`/logs?${new URLSearchParams({ site: logKey, view: "figures" })}`}
        >
          its figures
        </Link>
      </p>
    </section>
  );
}

function Head({ sheet }: { sheet: Sheet }) {
  const fine = sheet.decided && sheet.status !== null && sheet.status < 400;
  return (
    <header>
      <h1 className="mono text-xl font-semibold wrap-anywhere">{sheet.name}</h1>
      <p className="mt-2">
        <Link
          className="mono underline"
          to={`/follow?${new URLSearchParams({ url: sheet.front })}`}
        >
          {sheet.front}
        </Link>{" "}
        <span className={fine ? "text-clear" : "font-medium text-blocked"}>
          <Prose text={sheet.outcome} />
        </span>
      </p>
    </header>
  );
}

function Reached({ doors }: { doors: SheetDoor[] }) {
  return (
    <section aria-label="How it is reached">
      <h2 className="mb-1 text-sm text-faint">How it is reached</h2>
      {doors.length === 0 && <p>On every address and port that no other site is bound to.</p>}
      {doors.map((door) => (
        <div key={door.where} className="border-t border-line py-2">
          <p>
            <span className="mono font-semibold">{door.where}</span>
            {door.sealed && ", sealed"}
            {door.default && ", marked as the one that answers when nobody is named"}
          </p>
          <ul className="mt-1 space-y-0.5">
            {door.names.map((name) => (
              <li key={`${name.name} ${name.declared_at}`} className="flex flex-wrap gap-x-3">
                <span className={`mono ${name.wins ? "" : "text-unsure line-through"}`}>
                  {name.name}
                </span>
                <span className={name.wins ? "text-faint" : "text-unsure"}>
                  {name.wins
                    ? name.exact
                      ? "leads here"
                      : "leads here, where no one claims more exactly"
                    : `never leads here: ${name.winner} answers`}
                </span>
              </li>
            ))}
            {door.names.length === 0 && (
              <li className="text-faint">No name of its own: see who answers on this lane.</li>
            )}
          </ul>
        </div>
      ))}
    </section>
  );
}

const ROLES: Record<Word["role"], string> = {
  name: "font-semibold",
  note: "text-faint italic",
  rest: "",
};

function MadeOf({ sheet }: { sheet: Sheet }) {
  return (
    <section aria-label="What it is made of">
      <h2 className="mb-1 flex items-baseline gap-2 text-sm text-faint">
        What it is made of <span className="mono wrap-anywhere">{sheet.file}</span>
        <Copy text={sheet.declared_at} label="the place" />
      </h2>
      <ol className="mono border-y border-line bg-sheet py-1">
        {sheet.lines.map((line) => (
          <Line key={line.number} line={line} />
        ))}
      </ol>
      {sheet.cut && <p className="text-sm text-faint">The block goes on in the file.</p>}
    </section>
  );
}

function Line({ line }: { line: SheetLine }) {
  let at = 0;
  return (
    <li className="grid grid-cols-[3.5rem_1fr] gap-3">
      <span className="text-right text-faint select-none">{line.number}</span>
      <code className="text-[1em] break-words whitespace-pre-wrap">
        {marked(line.text).map((word) => {
          at += word.text.length;
          return (
            <span key={at} className={ROLES[word.role]}>
              {word.text}
            </span>
          );
        })}
      </code>
    </li>
  );
}

function Wrong({ findings }: { findings: BriefFinding[] }) {
  if (!findings.length) return <p className="text-lg">Nothing is found to be wrong.</p>;
  return (
    <section aria-label="Wrong here">
      <h2 className="mb-2 text-xl font-medium">Wrong here</h2>
      <FindingList findings={findings} />
    </section>
  );
}

function Lives({ sheet }: { sheet: Sheet }) {
  return (
    <section aria-label="Where it lives" className="space-y-3 border-t border-line pt-4">
      <h2 className="text-sm text-faint">Where it lives</h2>
      {sheet.folder ? (
        <Source proof={sheet.folder} />
      ) : (
        <p className="mono wrap-anywhere">{sheet.root ?? "no root is set"}</p>
      )}
      {sheet.root && (
        <Link
          className="text-sm underline"
          to={`/roots?${new URLSearchParams({ root: sheet.root.replace(/\/$/, "") })}`}
        >
          on the ground
        </Link>
      )}
      <p>
        <span className="text-sm text-faint">Index names, in order </span>
        <span className="mono">{sheet.index.join(", ") || "none"}</span>
      </p>
      <p>
        <span className="text-sm text-faint">Log </span>
        <span className="mono wrap-anywhere">{sheet.log ?? "none that is certain"}</span>
      </p>
      <Quoted title="Certificate" lines={sheet.certificate} />
      <Quoted title="Rules that bind the front page" lines={sheet.rules} />
      <p>
        <span className="text-sm text-faint">Read by </span>
        <span className="mono">{sheet.engine}</span>
      </p>
    </section>
  );
}

/** Lines of configuration, each with its place. */
function Quoted({ title, lines }: { title: string; lines: Evidence[] }) {
  if (!lines.length) return null;
  return (
    <section aria-label={title}>
      <h3 className="text-sm text-faint">{title}</h3>
      <ul className="space-y-1">
        {lines.map((line) => (
          <li key={`${line.file}:${line.line} ${line.path}`}>
            <Source proof={line} />
          </li>
        ))}
      </ul>
    </section>
  );
}
