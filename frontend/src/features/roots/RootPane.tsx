import { Link } from "react-router";
import { size } from "../../lib/numbers";
import { cut, plural } from "../../lib/text";
import { Copy } from "../../ui/Copy";
import { Cut } from "../../ui/Cut";
import { FindingList } from "../../ui/FindingList";
import { problemWords } from "./present";
import type { GroundRoot, Plot } from "./queries";

/** One document root: whose it is, what it serves, what is wrong in it, which endings are in use. */
export function RootPane({ plot }: { plot: Plot }) {
  const root = plot.root;
  if (!root) return null;
  return (
    <article aria-label="Document root" className="space-y-5">
      <header>
        <h2 className="mono text-base font-semibold wrap-anywhere">
          <Cut text={root.path} most={200} />
        </h2>
        <Copy text={root.path} label="the path" />
        {root.real_path !== root.path && (
          <p className="text-sm text-faint">
            leads to{" "}
            <span className="mono">
              <Cut text={root.real_path} most={200} />
            </span>
          </p>
        )}
        {root.problem ? (
          <p className="font-medium text-blocked">{problemWords(root.problem)}</p>
        ) : (
          <p>
            <span className="mono">{root.owner}</span> owns it,{" "}
            <span className="mono">{root.mode}</span>. {plural(root.files, "file")},{" "}
            {size(root.bytes)}.
          </p>
        )}
      </header>
      <Sites root={root} />
      {plot.findings.length > 0 && (
        <section aria-label="Wrong here">
          <h3 className="mb-1 text-sm text-faint">Wrong here</h3>
          <FindingList findings={plot.findings} />
        </section>
      )}
      {!root.problem && (
        <p>
          <span className="text-sm text-faint">Index </span>
          {root.index.length ? (
            <span className="mono">{root.index.join(", ")}</span>
          ) : (
            "none of the names that are tried is there"
          )}
        </p>
      )}
      <Endings root={root} />
    </article>
  );
}

function Sites({ root }: { root: GroundRoot }) {
  return (
    <section aria-label="Sites">
      <h3 className="text-sm text-faint">{root.sites.length > 1 ? "Sites" : "Site"}</h3>
      <ul>
        {root.sites.map((site) => (
          <li key={site}>
            <Link className="mono underline" to={`/?${new URLSearchParams({ q: site })}`}>
              {cut(site)}
            </Link>
          </li>
        ))}
      </ul>
    </section>
  );
}

function Endings({ root }: { root: GroundRoot }) {
  if (!root.endings.length) return null;
  return (
    <table className="w-full border-collapse text-left">
      <caption className="text-left text-sm text-faint">
        Endings in use, and what they go out as
      </caption>
      <tbody>
        {root.endings.map((use) => (
          <tr key={use.ending} className="border-t border-line">
            <th scope="row" className="mono py-0.5 pr-3 font-normal">
              {use.ending ? `.${use.ending}` : "none"}
            </th>
            <td className="mono pr-3 text-right text-faint">{use.files}</td>
            <td className={use.type ? "mono wrap-anywhere" : "text-unsure"}>
              {use.type ?? "unknown to the engine"}
            </td>
          </tr>
        ))}
      </tbody>
    </table>
  );
}
