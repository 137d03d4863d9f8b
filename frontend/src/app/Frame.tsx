import { useQuery } from "@tanstack/react-query";
import { useCallback, useRef, useState } from "react";
import { Link, NavLink, Outlet, useNavigate } from "react-router";
import { useSignOut } from "../api/session";
import { latestSurveyQuery } from "../features/surveys";
import { useKey } from "../lib/keyboard";
import { ago, cut, moment } from "../lib/text";
import { AddressLine } from "./AddressLine";
import { Help } from "./Help";
import { Mark } from "./Mark";
import { applyTheme, currentTheme, nextTheme } from "./theme";
import { UnderWay } from "./UnderWay";

const PLACES: ReadonlyArray<readonly [word: string, to: string, key: string]> = [
  ["Overview", "/", "o"],
  ["Follow", "/follow", "f"],
  ["Bindings", "/bindings", "b"],
  ["Roots", "/roots", "r"],
  ["User sites", "/users", "u"],
  ["Contexts", "/contexts", "c"],
  ["Logs", "/logs", "l"],
  ["Engines", "/engines", "e"],
  ["Changes", "/changes", "g"],
];

export function Frame({ user }: { user: string }) {
  const helpButton = useRef<HTMLButtonElement>(null);
  return (
    <div className="flex h-full flex-col">
      <header className="flex items-center gap-5 border-b border-line px-5 py-2.5">
        <Link to="/" aria-label="Ecumen, to the Overview" className="flex items-center gap-2">
          <Mark /> <span className="text-xl font-medium">Ecumen</span>
        </Link>
        <Moment />
        <AddressLine />
        <Account user={user} />
      </header>
      <nav aria-label="Places" className="flex items-center gap-6 border-b border-line px-5">
        {PLACES.map(([word, to, key]) => (
          <PlaceLink key={to} word={word} to={to} letter={key} />
        ))}
        <UnderWay />
        <PlaceLink word="new site" to="/new-site" letter="n" />
        <button
          ref={helpButton}
          type="button"
          className="mono cursor-pointer px-2 text-faint hover:text-ink"
          aria-label="Keys"
        >
          ?
        </button>
      </nav>
      <main className="min-h-0 flex-1">
        <Outlet />
      </main>
      <Help opener={helpButton} />
    </div>
  );
}

interface PlaceLinkProps {
  word: string;
  to: string;
  letter: string;
}

/** A place, reached by its word or its letter. */
function PlaceLink({ word, to, letter }: PlaceLinkProps) {
  const navigate = useNavigate();
  useKey(
    letter,
    useCallback(() => navigate(to), [navigate, to]),
  );
  return (
    <NavLink
      to={to}
      end
      className="border-b-2 border-transparent py-1.5 text-faint hover:text-ink aria-[current=page]:border-blocked aria-[current=page]:font-medium aria-[current=page]:text-ink"
    >
      {word}
    </NavLink>
  );
}

function Moment() {
  const { data } = useQuery(latestSurveyQuery);
  if (data === undefined) return null;
  if (data === null) {
    return (
      <Link to="/surveys" className="text-sm underline">
        no survey yet
      </Link>
    );
  }
  const taken = Date.parse(data.taken_at);
  return (
    <Link to="/surveys" className="group leading-tight">
      <span className="sr-only">Surveys of </span>
      <span className="mono block font-semibold group-hover:underline">{cut(data.host, 32)}</span>
      <span className="block text-xs text-faint" title={moment(data.taken_at)}>
        {taken > Date.now() ? moment(data.taken_at) : `surveyed ${ago(taken, Date.now())}`}
      </span>
    </Link>
  );
}

function Account({ user }: { user: string }) {
  const signOut = useSignOut();
  const [theme, setTheme] = useState(currentTheme());
  const turn = () => {
    const next = nextTheme(theme);
    applyTheme(next);
    setTheme(next);
  };
  return (
    <div className="flex items-baseline gap-3 text-sm">
      <button
        type="button"
        onClick={turn}
        className="cursor-pointer text-faint hover:text-ink"
        aria-label={`Light: ${theme}. Change it`}
      >
        light: {theme === "auto" ? "auto" : theme === "light" ? "day" : "night"}
      </button>
      <span className="mono">{cut(user, 24)}</span>
      <button
        type="button"
        onClick={() => signOut.mutate()}
        className="cursor-pointer text-faint underline decoration-line underline-offset-3 hover:text-ink"
      >
        sign out
      </button>
    </div>
  );
}
