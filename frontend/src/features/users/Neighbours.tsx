import { useQuery } from "@tanstack/react-query";
import { Link } from "react-router";
import { plural } from "../../lib/text";
import { Failed, Waiting } from "../../ui/States";
import { exposedOwners, matrix } from "./present";
import { type Cell, neighboursQuery } from "./queries";

/** Who can read or change what an owner keeps private. */
export function Neighbours() {
  const found = useQuery(neighboursQuery);
  if (found.isPending) return <Waiting>Trying every account on every private file</Waiting>;
  if (found.isError) return <Failed error={found.error} retry={found.refetch} />;
  const { cells, more } = found.data;
  if (!cells.length) {
    return <p className="py-8 text-lg">No owner can read what another keeps private.</p>;
  }
  const { owners, others, alike } = matrix(cells);
  return (
    <div className="space-y-6">
      <p className="max-w-3xl text-faint">
        Private is what has a name that says so: dumps, keys, password files, configuration that may
        hold passwords. Down the side stand those who can read or write it, across the top whose it
        is; accounts that can do just the same stand together.
      </p>
      <table className="border-collapse">
        <thead>
          <tr>
            <th scope="col" className="pr-6 text-left text-sm font-normal text-faint">
              can read, of
            </th>
            {owners.map((owner) => (
              <th key={owner} scope="col" className="mono px-3 pb-1 text-left font-semibold">
                {owner}
              </th>
            ))}
          </tr>
        </thead>
        <tbody>
          {others.map((row) => (
            <tr key={row.name} className="border-t border-line">
              <th scope="row" className="mono max-w-72 py-1 pr-6 text-left font-normal">
                {named(alike.get(row.name) ?? [row.name])}
                {row.cells.some((cell) => cell?.worker) && (
                  <span className="block font-sans text-sm text-faint">
                    the web server's, for whom every owner's programs may run
                  </span>
                )}
              </th>
              {row.cells.map((cell, at) => (
                <td key={owners[at]} className="px-3 py-1 align-top">
                  {cell ? <Seen cell={cell} /> : <span className="text-skipped">·</span>}
                </td>
              ))}
            </tr>
          ))}
        </tbody>
      </table>
      {more > 0 && <p className="text-sm text-faint">{more} pairs more are not listed here.</p>}
    </div>
  );
}

/** What stands out: of each owner the worst that others can read, and how many of them can. */
export function Exposed() {
  const found = useQuery(neighboursQuery);
  if (!found.data?.cells.length) return null;
  const owners = exposedOwners(found.data.cells);
  return (
    <section aria-label="What stands out" className="space-y-4">
      <h2 className="text-xl font-medium">
        {owners.length === 1 ? "One owner's" : `${owners.length} owners'`} private files are open to
        others
      </h2>
      <ul className="space-y-4">
        {owners.map(({ owner, accounts, writers, worker, worst }) => (
          <li key={owner} className="border-l-2 border-diverted pl-3">
            <p>
              <span className="mono font-semibold">{owner}</span>'s can be read by{" "}
              {plural(accounts, "account")}
              {worker && ", the web server's among them"}
              {writers > 0 && (
                <span className="font-medium text-blocked">, and written by {writers}</span>
              )}
            </p>
            <Link
              to={`/who?${new URLSearchParams({ path: worst.worst })}`}
              className="mono wrap-anywhere underline"
            >
              {worst.worst}
            </Link>
            <span className="block text-sm text-faint">
              {worst.kind}, through {worst.how}
            </span>
          </li>
        ))}
      </ul>
    </section>
  );
}

function named(accounts: string[]): string {
  if (accounts.length <= 3) return accounts.join(", ");
  return `${accounts.slice(0, 2).join(", ")} and ${plural(accounts.length - 2, "account")} more`;
}

/** A file for each that can be read; one that can be written is filled. */
function Seen({ cell }: { cell: Cell }) {
  return (
    <span className={cell.writes ? "font-semibold text-blocked" : "text-diverted"}>
      {plural(cell.reads, "file")}
      {cell.writes > 0 && <span className="block text-sm">writes {cell.writes}</span>}
    </span>
  );
}
