import { useQuery } from "@tanstack/react-query";
import { Link } from "react-router";
import { client, type Schemas, take } from "../../api/client";
import { day, plural } from "../../lib/text";
import { Copy } from "../../ui/Copy";
import { Columns } from "../../ui/plots/Columns";
import { Failed, Note, Waiting } from "../../ui/States";
import { EndBar } from "./EndBar";
import { horizon, left, STATE_TONES } from "./present";

const WEEK = 7 * 86_400;

/** When which certificate ends: the next ones first, on one axis of time. */
export function SealsPage() {
  const found = useQuery({
    queryKey: ["seals"],
    queryFn: async () =>
      take(
        await client.GET("/api/surveys/{survey}/seals", {
          params: { path: { survey: "latest" } },
        }),
      ),
  });
  if (found.isPending) return <Waiting>Reading the certificates</Waiting>;
  if (found.isError) return <Failed error={found.error} retry={found.refetch} />;
  const { ends, total, weeks, seen_at } = found.data;
  if (!total) {
    return (
      <Note title="No certificate">
        <p>No site of this survey shows a certificate that could be read.</p>
      </Note>
    );
  }
  const until = horizon(ends, seen_at);
  return (
    <div className="h-full overflow-auto px-5 py-4">
      <header className="mb-4 flex items-baseline gap-4">
        <h1 className="text-2xl font-medium">When certificates end</h1>
        <p className="text-faint">
          {plural(total, "certificate")}, by the survey of {day(seen_at)}
        </p>
        <Calendar />
      </header>
      <div className="max-w-7xl space-y-6">
        {total > 40 && (
          <Columns
            title="Ends in each week"
            values={weeks}
            words={(number) => day(seen_at + number * WEEK)}
          />
        )}
        <table className="w-full border-collapse">
          <thead>
            <tr className="border-b border-ink text-left text-sm text-faint">
              <th className="py-1 font-normal">Site</th>
              <th className="font-normal">Issued by</th>
              <th className="font-normal">Ends</th>
              <th className="w-[40%] font-normal">From the survey to {day(until)}</th>
            </tr>
          </thead>
          <tbody>
            {ends.map((end) => (
              <Row key={`${end.path} ${end.digest}`} end={end} now={seen_at} until={until} />
            ))}
          </tbody>
        </table>
        {total > ends.length && (
          <p className="text-faint">{plural(total - ends.length, "more")} end later.</p>
        )}
      </div>
    </div>
  );
}

interface RowProps {
  end: Schemas["SealEnd"];
  now: number;
  until: number;
}

function Row({ end, now, until }: RowProps) {
  const site = end.sites[0] ?? end.called;
  const follow = new URLSearchParams({ url: `https://${site}/`, gate: "seal" });
  return (
    <tr className="border-b border-line align-baseline">
      <td className="py-1.5 pr-4">
        <Link className="mono font-semibold wrap-anywhere hover:underline" to={`/follow?${follow}`}>
          {site}
        </Link>
        {end.sites.length + end.more > 1 && (
          <span className="text-sm text-faint"> and {end.sites.length + end.more - 1} more</span>
        )}
        {end.fault && <span className="block text-sm text-blocked">{end.fault}</span>}
      </td>
      <td className="pr-4 text-faint">{end.issuer}</td>
      <td className="mono pr-4 whitespace-nowrap">
        {day(end.ends)}
        <span className={`ml-3 font-sans font-medium ${STATE_TONES[end.state]}`}>
          {left(end, now)}
        </span>
      </td>
      <td>
        <EndBar end={end} now={now} until={until} />
      </td>
    </tr>
  );
}

/** The address for a program that shows calendars: it cannot sign in, so a key stands in it. */
function Calendar() {
  const found = useQuery({
    queryKey: ["calendar"],
    queryFn: async () => take(await client.GET("/api/session/calendar")),
  });
  if (!found.data) return null;
  const address = new URL(found.data.path, window.location.origin).href;
  return (
    <p className="ml-auto text-sm text-faint">
      For your calendar (iCalendar): <Copy text={address} label="the address of the calendar" />
    </p>
  );
}
