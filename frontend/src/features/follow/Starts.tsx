import { useQuery } from "@tanstack/react-query";
import { type ReactNode, useCallback } from "react";
import { Link, useNavigate } from "react-router";
import { useKey } from "../../lib/keyboard";
import { count } from "../../lib/numbers";
import { recent } from "../../lib/recent";
import { Failed, Waiting } from "../../ui/States";
import { addressOf } from "./present";
import { startsQuery } from "./queries";

interface Start {
  url: string;
  to?: string;
  status: number | null;
  requests?: number;
}

// So many of each list have a key.
const KEYED = 3;

/** Where to begin: what fails most, what visitors ask most, what was followed last. */
export function Starts() {
  const found = useQuery(startsQuery);
  if (found.isPending) return <Waiting>Looking at what visitors ask</Waiting>;
  if (found.isError) return <Failed error={found.error} retry={found.refetch} />;
  const { failing, asked, begin, end } = found.data;
  const span =
    begin != null && end != null ? `in the last ${Math.round((end - begin) / 3600)} hours` : "";
  return (
    <div className="h-full overflow-auto px-6 py-5">
      <h1 className="text-xl font-medium">Follow an address</h1>
      <p className="mb-5 max-w-3xl text-faint">
        Type one in the line above, as a visitor would: a name, a path, a port. Or take one of
        these, by its number.
      </p>
      <div className="grid grid-cols-3 items-start gap-8">
        <List title="What fails most" words={span} starts={failing} first={1}>
          {begin == null ? "No log has been read yet." : "Nothing failed."}
        </List>
        <List title="What visitors ask most" words={span} starts={asked} first={1 + KEYED}>
          {begin == null ? "No log has been read yet." : "Nothing was asked."}
        </List>
        <List title="Followed last" words="in this browser" starts={recent()} first={1 + 2 * KEYED}>
          Nothing yet.
        </List>
      </div>
    </div>
  );
}

interface ListProps {
  title: string;
  words: string;
  starts: Start[];
  first: number;
  children: ReactNode;
}

function List({ title, words, starts, first, children }: ListProps) {
  return (
    <section aria-label={title} className="min-w-0">
      <h2 className="border-b border-ink pb-1 font-medium">
        {title} <span className="text-sm font-normal text-faint">{words}</span>
      </h2>
      {starts.length === 0 && <p className="py-2 text-faint">{children}</p>}
      <ol>
        {starts.map((start, at) => (
          <Row
            key={`${start.to} ${start.url}`}
            start={start}
            letter={at < KEYED ? String(first + at) : ""}
          />
        ))}
      </ol>
    </section>
  );
}

function Row({ start, letter }: { start: Start; letter: string }) {
  const navigate = useNavigate();
  const { url, to, status, requests } = start;
  const where = addressOf(to ? { url, to } : { url });
  useKey(
    letter,
    useCallback(() => navigate(where), [navigate, where]),
  );
  return (
    <li className="grid grid-cols-[1.25rem_1fr_auto_auto] items-baseline gap-x-2 border-b border-line py-1.5">
      <kbd className="mono text-faint">{letter}</kbd>
      <Link
        to={where}
        className="mono min-w-0 wrap-anywhere decoration-line underline-offset-3 hover:underline"
      >
        {url.replace(/^http:\/\//, "")}
      </Link>
      {requests !== undefined && <span className="text-sm text-faint">{count(requests)}</span>}
      <span
        className={`mono ${status === null || status >= 400 ? "font-semibold text-blocked" : "text-clear"}`}
      >
        {status ?? "—"}
      </span>
    </li>
  );
}
