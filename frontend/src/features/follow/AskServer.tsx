import { useMutation } from "@tanstack/react-query";
import { Button } from "../../ui/Button";
import { askServer, type Compared, type Question } from "./queries";

const WORDS: Record<string, string> = {
  status: "status",
  content_type: "type",
  location: "sent to",
};

/** The real request, sent from where Ecumen runs, and what came back beside what was predicted. */
export function AskServer({ question }: { question: Question }) {
  const asked = useMutation({ mutationFn: askServer });
  const came = asked.data;
  return (
    <section aria-label="Ask the server" className="border-t border-line pt-4">
      <Button onClick={() => asked.mutate(question)} disabled={asked.isPending}>
        {asked.isPending ? "Asking" : came ? "Ask again" : "Ask the server"}
      </Button>
      <div aria-live="polite">
        {asked.isError && <p className="mt-2 text-blocked">Not sent: {asked.error.message}</p>}
        {came && (
          <>
            <p className="mt-2 font-medium">{verdict(came.agrees, came.trouble)}</p>
            <Rows rows={came.rows} />
            {came.since.length > 0 && (
              <div className="mt-2">
                <p>Changed after the engine last read its configuration:</p>
                <ul className="mono">
                  {came.since.map((file) => (
                    <li key={file} className="wrap-anywhere">
                      {file}
                    </li>
                  ))}
                </ul>
              </div>
            )}
            <p className="mt-2 text-sm text-faint">
              {came.by_stand_in ? "The stand-in of the demo answered for " : "Asked "}
              <span className="mono">
                {came.address}:{came.port}
              </span>
              {came.by_stand_in ? "" : <From address={came.asked_from} />}, {clock(came.at)}
            </p>
          </>
        )}
      </div>
    </section>
  );
}

function From({ address }: { address: string }) {
  if (!address) return null;
  return (
    <>
      {" from "}
      <span className="mono">{address}</span>, as whom it was predicted
    </>
  );
}

function Rows({ rows }: { rows: Compared[] }) {
  return (
    <table className="mt-2 w-full table-fixed border-collapse text-left align-top">
      <thead className="text-sm text-faint">
        <tr>
          <td className="w-14" />
          <th scope="col" className="pr-3 font-normal">
            predicted
          </th>
          <th scope="col" className="font-normal">
            came back
          </th>
        </tr>
      </thead>
      <tbody>
        {rows.map((row) => (
          <tr key={row.what} className="border-t border-line align-top">
            <th scope="row" className="w-14 py-1 pr-2 text-sm font-normal text-faint">
              {WORDS[row.what]}
            </th>
            <td className="mono py-1 pr-3 wrap-anywhere">{row.predicted ?? "none"}</td>
            <td className={`mono py-1 wrap-anywhere ${row.agrees === false ? OTHERWISE : ""}`}>
              {row.agrees === false && <span aria-hidden="true">≠ </span>}
              {row.observed ?? "none"}
              {row.agrees === false && <span className="sr-only">, which is not as predicted</span>}
            </td>
          </tr>
        ))}
      </tbody>
    </table>
  );
}

const OTHERWISE = "border-l-4 border-blocked pl-2 font-semibold text-blocked";

function verdict(agrees: boolean | null, trouble: string): string {
  if (agrees) return trouble ? `As predicted: ${trouble}.` : "As predicted.";
  if (trouble) return `No HTTP answer came: ${trouble}.`;
  if (agrees === null) return "Nothing sure was predicted; this came back.";
  return "The server answers otherwise than predicted.";
}

function clock(at: string): string {
  return new Date(at).toLocaleTimeString("en-GB", { timeZoneName: "short" });
}
