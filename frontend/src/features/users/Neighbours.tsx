import { useQuery } from "@tanstack/react-query";
import { Link } from "react-router";
import { plural } from "../../lib/text";
import { Failed, Waiting } from "../../ui/States";
import { matrix } from "./present";
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
  const worst = owners.map((owner) => cells.find((cell) => cell.owner === owner));
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
      <section aria-label="The worst of each owner">
        <h2 className="mb-1 text-sm text-faint">The worst of each owner</h2>
        <ul className="space-y-1.5 border-l-2 border-line pl-3">
          {worst.map((cell) =>
            cell ? (
              <li key={cell.owner}>
                <Link
                  to={`/who?${new URLSearchParams({ path: cell.worst })}`}
                  className="mono wrap-anywhere underline"
                >
                  {cell.worst}
                </Link>
                <span className="block text-sm text-faint">
                  {cell.kind} of <span className="mono">{cell.owner}</span>, through {cell.how}
                </span>
              </li>
            ) : null,
          )}
        </ul>
      </section>
    </div>
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
