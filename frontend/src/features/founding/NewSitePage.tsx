import { useQuery } from "@tanstack/react-query";
import { useCallback, useEffect, useId, useState } from "react";
import { useSearchParams } from "react-router";
import { usePut } from "../../lib/params";
import { AddToPlan } from "../../ui/AddToPlan";
import { Choice } from "../../ui/Choice";
import { SELF, SeenBy } from "../../ui/SeenBy";
import { Failed, Note, Waiting } from "../../ui/States";
import { FirstVisit } from "./FirstVisit";
import { PARTS, typed, wishOf } from "./present";
import { type Founding, foundingQuery, type Part } from "./queries";

const PAUSE = 350; // milliseconds without a letter

/** A new site from two answers: whose, and by which address; all else is as it is usual here. */
export function NewSitePage() {
  const [params] = useSearchParams();
  const found = useQuery(foundingQuery(wishOf(params)));
  if (found.isPending) return <Waiting>Learning what is usual here</Waiting>;
  if (found.isError && !found.data) return <Failed error={found.error} retry={found.refetch} />;
  const data = found.data;
  const asked = Boolean(params.get("owner") && params.get("name"));
  return (
    <div className="grid h-full grid-cols-[1fr_27rem]">
      <div className="min-h-0 overflow-auto px-6 py-4">
        <h1 className="mb-3 text-xl font-medium">A new site</h1>
        <Questions owners={data.owners} />
        {found.isError && (
          <p role="alert" className="mt-3 text-blocked">
            {found.error.message}
          </p>
        )}
        {asked ? (
          <>
            <Clashes clashes={data.clashes} />
            <Visits founding={data} />
            <Parts parts={data.parts} engines={data.engines} engine={data.engine} />
          </>
        ) : (
          <Note title="Two answers are enough">
            <p>
              Folder, owner and rights, names, log, configuration and order are proposed as most
              sites of this server have them. Each can be said otherwise, and nothing is done before
              it was rehearsed.
            </p>
          </Note>
        )}
      </div>
      <aside
        aria-label="What would be made"
        className="min-h-0 overflow-auto border-l border-line bg-sheet px-5 py-4"
      >
        {asked && data.possible ? (
          <Made founding={data} />
        ) : (
          <p className="text-faint">What would be made stands here.</p>
        )}
      </aside>
    </div>
  );
}

function Questions({ owners }: { owners: string[] }) {
  const people = useId();
  return (
    <div className="flex items-end gap-6">
      <Field wish="owner" words="Whose is it" list={people} wide="w-52" focus />
      <Field wish="name" words="By which name is it asked for" wide="w-80" />
      <datalist id={people}>
        {owners.map((owner) => (
          <option key={owner} value={owner} />
        ))}
      </datalist>
    </div>
  );
}

interface FieldProps {
  wish: string;
  words: string;
  wide: string;
  usual?: string;
  list?: string;
  focus?: boolean;
  bare?: boolean;
}

/** One answer, kept in the page's address once nobody types any more. usual: what it is unless
 * something else is said; left empty, it is that again.
 */
function Field({ wish, words, wide, usual = "", list, focus = false, bare = false }: FieldProps) {
  const [params] = useSearchParams();
  const put = usePut();
  const kept = params.get(wish) || usual;
  const [text, setText] = useState(kept);
  useEffect(() => setText(kept), [kept]);
  // What is as usual is not said.
  const say = useCallback(
    (said: string) => put(wish, said.trim() === usual ? "" : said, true),
    [put, wish, usual],
  );
  useEffect(() => {
    if (text === kept) return;
    const waiting = setTimeout(() => say(text), PAUSE);
    return () => clearTimeout(waiting);
  }, [text, kept, say]);
  return (
    <label className={bare ? "block" : "block text-sm text-faint"}>
      <span className={bare ? "sr-only" : "mb-0.5 block"}>{words}</span>
      <input
        className={`mono ${wide} border border-line bg-sheet px-2 py-1 text-ink focus:border-ink`}
        value={text}
        list={list}
        // biome-ignore lint/a11y/noAutofocus: whoever comes here comes to answer
        autoFocus={focus && !kept && document.activeElement === document.body}
        autoComplete="off"
        spellCheck={false}
        onChange={(event) => setText(event.target.value)}
        onKeyDown={(event) => event.key === "Enter" && say(text)}
      />
    </label>
  );
}

function Clashes({ clashes }: { clashes: Founding["clashes"] }) {
  if (!clashes.length) return null;
  const stopped = clashes.some((clash) => clash.stops);
  return (
    <ul aria-label="What stands against it" className="mt-3 space-y-1">
      {stopped && <li className="font-medium text-blocked">So it cannot be:</li>}
      {clashes.map((clash) => (
        <li
          key={`${clash.about} ${clash.words}`}
          className={`border-l-4 pl-3 wrap-anywhere ${clash.stops ? "border-blocked text-blocked" : "border-dotted border-unsure"}`}
        >
          {clash.words}.
        </li>
      ))}
    </ul>
  );
}

/** Who may see it, and what the first visitors meet. */
function Visits({ founding }: { founding: Founding }) {
  const [params] = useSearchParams();
  const put = usePut();
  return (
    <section aria-label="Who may see it" className="mt-5">
      <div className="mb-2">
        <SeenBy
          value={params.get("seen_by") ?? SELF}
          say={(seenBy) => put("seen_by", seenBy, true)}
        />
      </div>
      {founding.outside && founding.inside && (
        <>
          <FirstVisit passage={founding.outside} who="The first visitor from outside" />
          <FirstVisit passage={founding.inside} who="A visitor on the server itself" />
        </>
      )}
    </section>
  );
}

interface PartsProps {
  parts: Part[];
  engines: string[];
  engine: string;
}

function Parts({ parts, engines, engine }: PartsProps) {
  const put = usePut();
  if (!parts.length) return null;
  return (
    <section aria-label="What it is made of" className="mt-5">
      <h2 className="mb-1 font-medium">As sites are here</h2>
      <table className="w-full">
        <tbody>
          {engines.length > 1 && (
            <tr className="border-t border-line">
              <th scope="row" className="w-44 py-1.5 pr-4 text-left font-normal text-faint">
                served by
              </th>
              <td colSpan={2}>
                <Choice
                  words=""
                  label="Served by"
                  value={engine}
                  options={engines.map((kind) => [kind, kind] as const)}
                  choose={(kind) => put("engine", kind, true)}
                />
              </td>
            </tr>
          )}
          {parts.map((part) => {
            const known = PARTS[part.part];
            if (!known) return null;
            const [words, wish] = known;
            return (
              <tr key={part.part} className="border-t border-line">
                <th scope="row" className="w-44 py-1.5 pr-4 text-left font-normal text-faint">
                  {words}
                </th>
                <td className="py-1 pr-4">
                  <Field
                    wish={wish}
                    words={words}
                    usual={typed(part.part, part.value)}
                    wide="w-full"
                    bare
                  />
                </td>
                <td className="w-56 text-sm text-faint">{part.why}</td>
              </tr>
            );
          })}
        </tbody>
      </table>
    </section>
  );
}

function Made({ founding }: { founding: Founding }) {
  return (
    <>
      <h2 className="mb-2 font-medium">What would be done</h2>
      <ol className="mb-3 space-y-1 text-sm">
        {founding.steps.map((step) => (
          <li key={step} className="border-l-2 border-line pl-2 wrap-anywhere">
            {step}
          </li>
        ))}
      </ol>
      <AddToPlan
        key={JSON.stringify(founding.operations)}
        what={{ title: founding.title, operations: founding.operations }}
      />
      {[...founding.texts].reverse().map((written) => (
        <section key={written.path} aria-label={written.path} className="mt-4">
          <h3 className="mono mb-1 text-sm wrap-anywhere text-faint">{written.path}</h3>
          <pre className="mono border border-line bg-paper p-2 text-xs whitespace-pre-wrap wrap-anywhere">
            {written.text}
          </pre>
        </section>
      ))}
    </>
  );
}
