import { keepPreviousData, queryOptions, useQuery, useQueryClient } from "@tanstack/react-query";
import {
  type FormEvent,
  type KeyboardEvent,
  useCallback,
  useEffect,
  useRef,
  useState,
} from "react";
import { useNavigate, useSearchParams } from "react-router";
import { client, type Schemas, take } from "../api/client";
import { useKey } from "../lib/keyboard";
import { cut } from "../lib/text";
import { destination, isWord, placeOf } from "./address";
import { placesFor } from "./places";

type Hit = Schemas["LookupHit"];

/** What a word may mean: something of the server, or a place of the application. */
interface Meant {
  kind: string;
  name: string;
  detail: string;
  to: string;
}

const LIST = "what-a-word-may-mean";

function hitsQuery(word: string) {
  return queryOptions({
    queryKey: ["lookup", word],
    queryFn: async ({ signal }) =>
      take(
        await client.GET("/api/surveys/{survey}/lookup", {
          params: { path: { survey: "latest" }, query: { q: word } },
          signal,
        }),
      ),
    placeholderData: keepPreviousData,
  });
}

/** Always there: an address starts a passage, a path asks who may, a word finds accounts, sites and
 * places. Asked for from anywhere (Ctrl K), it shows all places.
 */
export function AddressLine() {
  const [params] = useSearchParams();
  const asked = params.get("url") ?? "";
  const [text, setText] = useState(asked);
  const [typing, setTyping] = useState(false);
  const [picked, setPicked] = useState("");
  const [called, setCalled] = useState(false);
  const input = useRef<HTMLInputElement>(null);
  const navigate = useNavigate();
  const queries = useQueryClient();
  useEffect(() => setText(asked), [asked]);
  useKey(
    "/",
    useCallback(() => input.current?.select(), []),
  );
  useEffect(() => {
    const call = (event: globalThis.KeyboardEvent) => {
      if (event.key !== "k" || !(event.ctrlKey || event.metaKey)) return;
      event.preventDefault();
      setText("");
      setPicked("");
      setCalled(true);
      input.current?.focus();
    };
    window.addEventListener("keydown", call);
    return () => window.removeEventListener("keydown", call);
  }, []);
  const word = text.trim();
  const looks = typing && isWord(word);
  const { data } = useQuery({ ...hitsQuery(word), enabled: looks });
  const offered = (found: Hit[] = []) => [
    ...(looks ? found.map(meant) : []),
    ...(looks || called ? placesFor(word) : []),
  ];
  const hits = offered(data);
  // By what it is, and not by its place: another answer may come while one picks.
  const at = hits.findIndex((hit) => keyOf(hit) === picked);
  const leave = (where: string) => {
    setTyping(false);
    setCalled(false);
    navigate(where);
    input.current?.blur();
  };
  const go = async (event: FormEvent) => {
    event.preventDefault();
    if (hits[at]) return leave(hits[at].to);
    // What is shown may still answer what was typed before: only the answer to this word decides.
    const found = looks ? await queries.ensureQueryData(hitsQuery(word)).catch(() => []) : [];
    // Whoever has typed on meanwhile, or has left the line, is not led away.
    const stays = !looks || document.activeElement === input.current;
    if (!stays || input.current?.value.trim() !== word) return;
    const all = offered(found);
    // An account that has just this name is meant before sites that hold the letters.
    const first = called && word ? all[0] : undefined;
    const named = all.find((each) => each.name === word && each.kind === "account");
    const hit = named ?? first;
    const where = hit ? hit.to : destination(text, params);
    if (where) leave(where);
  };
  const move = (event: KeyboardEvent) => {
    if (event.key === "Escape") input.current?.blur();
    const step = { ArrowDown: 1, ArrowUp: -1 }[event.key];
    if (!step || !hits.length) return;
    event.preventDefault();
    // Behind the last and before the first stands what was typed, at -1.
    const places = hits.length + 1;
    const next = hits[((at + 1 + step + places) % places) - 1];
    setPicked(next ? keyOf(next) : "");
  };
  return (
    <search className="relative min-w-0 flex-1">
      <form onSubmit={go} className="flex min-w-0 items-stretch">
        <label className="flex min-w-0 flex-1 items-center border-b-2 border-ink bg-sheet focus-within:border-clear">
          <span className="sr-only">Address</span>
          <span aria-hidden="true" className="mono px-2 text-faint">
            /
          </span>
          <input
            ref={input}
            value={text}
            role="combobox"
            aria-expanded={hits.length > 0}
            aria-controls={LIST}
            aria-autocomplete="list"
            aria-activedescendant={at >= 0 ? `${LIST}-${at}` : undefined}
            onChange={(event) => {
              setText(event.target.value);
              setTyping(true);
              setPicked("");
            }}
            onBlur={() => {
              setTyping(false);
              setCalled(false);
            }}
            onKeyDown={move}
            placeholder="Type an address, as a visitor would"
            autoComplete="off"
            autoCapitalize="off"
            spellCheck={false}
            className="mono min-w-0 flex-1 bg-transparent py-1.5 outline-none placeholder:font-sans placeholder:text-base placeholder:text-faint"
          />
        </label>
        <button
          type="submit"
          className="cursor-pointer bg-ink px-4 font-medium text-paper hover:bg-clear"
        >
          Follow
        </button>
      </form>
      <Hits hits={hits} at={at} choose={(hit) => leave(hit.to)} />
    </search>
  );
}

// Words of ours, and not of the server.
const OURS = { place: true, action: true };

function keyOf(hit: Meant): string {
  return `${hit.kind} ${hit.name} ${hit.to}`;
}

function meant(hit: Hit): Meant {
  return { kind: hit.kind, name: hit.name, detail: hit.detail, to: placeOf(hit) };
}

interface HitsProps {
  hits: Meant[];
  at: number;
  choose: (hit: Meant) => void;
}

function Hits({ hits, at, choose }: HitsProps) {
  return (
    <div
      id={LIST}
      role="listbox"
      aria-label="What it may mean"
      hidden={!hits.length}
      className="absolute inset-x-0 top-full z-10 border border-t-0 border-ink bg-sheet"
    >
      {hits.map((hit, number) => (
        // biome-ignore lint/a11y/useFocusableInteractive: the focus stays in the line, which names it.
        // biome-ignore lint/a11y/useKeyWithClickEvents: keys are taken by the line.
        <div
          key={keyOf(hit)}
          id={`${LIST}-${number}`}
          role="option"
          aria-selected={number === at}
          // Before the line loses its focus, and the list goes.
          onMouseDown={(event) => event.preventDefault()}
          onClick={() => choose(hit)}
          className="grid cursor-pointer grid-cols-[5rem_minmax(8rem,auto)_1fr] gap-3 px-2 py-1 hover:bg-shoal aria-selected:bg-shoal"
        >
          <span className="text-faint">{hit.kind}</span>
          <span className={hit.kind in OURS ? "font-medium" : "mono font-semibold"}>
            {cut(hit.name, 60)}
          </span>
          <span className="truncate text-sm text-faint">{hit.detail}</span>
        </div>
      ))}
    </div>
  );
}
