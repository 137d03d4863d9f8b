import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { count } from "../../lib/numbers";
import { plural } from "../../lib/text";
import { Failed, Waiting } from "../../ui/States";
import { type LogState, type Logs, rejectedQuery } from "./queries";

/** Which logs were read, and what in them could not be. */
export function Sources({ logs }: { logs: Logs }) {
  const { sources, lines } = logs.logs;
  const troubled = sources.filter((log) => log.trouble || log.unread.length);
  const rejecting = sources.filter((log) => log.kind === "access" && log.rejected > 0);
  return (
    <section aria-label="What was read" className="space-y-4">
      <div>
        <h2 className="text-xl font-medium">What was read</h2>
        <p>
          {count(lines)} lines of {plural(logs.logs.count, "log")}. Brush over the time above, or
          choose a cause to see what it is about.
        </p>
      </div>
      {troubled.length > 0 && (
        <div>
          <h3 className="border-b border-line text-sm text-faint">Not read</h3>
          <ul className="space-y-1 pt-1">
            {troubled.map((log) => (
              <li key={log.id}>
                <span className="mono wrap-anywhere">{log.path}</span>
                <span className="block text-sm text-blocked wrap-anywhere">
                  {log.trouble || log.unread.join("; ")}
                </span>
              </li>
            ))}
          </ul>
        </div>
      )}
      {rejecting.length > 0 && (
        <div>
          <h3 className="border-b border-line text-sm text-faint">Lines that make no sense</h3>
          <ul className="pt-1">
            {rejecting.map((log) => (
              <Rejecting key={log.id} log={log} />
            ))}
          </ul>
        </div>
      )}
      <details>
        <summary className="cursor-pointer text-faint">
          {sources.length < logs.logs.count ? `${sources.length} of them` : "every log"}
        </summary>
        <ul>
          {sources.map((log) => (
            <li
              key={log.id}
              className="grid grid-cols-[minmax(0,1fr)_auto] gap-3 border-b border-line py-0.5"
            >
              <span className="mono wrap-anywhere">{log.path}</span>
              <span className="text-faint">{count(log.lines)}</span>
            </li>
          ))}
        </ul>
      </details>
    </section>
  );
}

function Rejecting({ log }: { log: LogState }) {
  const [open, setOpen] = useState(false);
  return (
    <li>
      <button
        type="button"
        aria-expanded={open}
        onClick={() => setOpen(!open)}
        className="grid w-full cursor-pointer grid-cols-[minmax(0,1fr)_auto] gap-3 text-left hover:underline"
      >
        <span className="mono wrap-anywhere">{log.path}</span>
        <span>{count(log.rejected)}</span>
      </button>
      {open && <Rejected log={log.id} />}
    </li>
  );
}

function Rejected({ log }: { log: number }) {
  const found = useQuery(rejectedQuery(log));
  if (found.isPending) return <Waiting>Reading them</Waiting>;
  if (found.isError) return <Failed error={found.error} retry={found.refetch} />;
  return (
    <ul className="border-l-4 border-line pl-3 text-sm">
      {found.data.map((line) => (
        <li key={`${line.path} ${line.offset}`} className="py-1">
          {line.why}
          <code className="block text-faint wrap-anywhere">{line.text || "(empty)"}</code>
        </li>
      ))}
    </ul>
  );
}
