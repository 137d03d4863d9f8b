import { Link } from "react-router";
import { cut, plural } from "../../lib/text";
import { type Impact, ImpactMark } from "../../ui/ImpactMark";
import { type Ground, hue, problemWords } from "./present";

interface Props {
  ground: Ground;
  chosen: string | null;
  choose: (path: string) => void;
}

/** A folder with what lies in it, or a root tinted by its owner. */
export function GroundBox({ ground, chosen, choose }: Props) {
  const { plot, inner } = ground;
  if (plot.root) return <RootBox ground={ground} chosen={chosen} choose={choose} />;
  return (
    <section aria-label={plot.path} className="min-w-0 basis-full border-t border-line pt-1.5">
      <h2 className="mb-1.5 flex items-baseline gap-2">
        <Link
          to={`/roots?${new URLSearchParams({ within: plot.path })}`}
          className="mono font-semibold hover:underline"
        >
          {cut(plot.name)}
        </Link>
        <span className="text-sm text-faint">{plural(plot.roots, "root")}</span>
        {plot.closed && <span className="text-sm text-faint">choose it to look inside</span>}
      </h2>
      <div className="flex flex-wrap items-start gap-1.5 pl-3">
        {inner.map((each) => (
          <GroundBox key={each.plot.path} ground={each} chosen={chosen} choose={choose} />
        ))}
      </div>
      {plot.more > 0 && (
        <p className="py-2 pl-3 text-sm text-faint">
          {plot.more} more lie here. Find them by their words above.
        </p>
      )}
    </section>
  );
}

function RootBox({ ground, chosen, choose }: Props) {
  const { plot, inner } = ground;
  const root = plot.root;
  if (!root) return null;
  const tint = `hsl(${hue(root.owner)} 45% 50% / 0.16)`;
  return (
    <div
      className={`min-w-0 border ${root.problem ? "border-dashed border-blocked" : "border-line"} ${chosen === root.path ? "outline-2 outline-ink" : ""}`}
      style={{ backgroundColor: root.problem ? undefined : tint }}
    >
      <button
        type="button"
        aria-pressed={chosen === root.path}
        onClick={() => choose(root.path)}
        className="flex w-full cursor-pointer items-center gap-1.5 px-2 py-1 text-left hover:bg-shoal"
      >
        {plot.worst && <ImpactMark impact={plot.worst as Impact} size={18} />}
        <span className="min-w-0">
          <span className="mono block leading-tight wrap-anywhere">{cut(plot.name)}</span>
          <span className="block text-xs leading-tight text-faint">
            {root.problem ? problemWords(root.problem) : cut(root.owner ?? "")}
            {root.sites.length > 1 ? `, ${root.sites.length} sites` : ""}
            {plot.worst && <span className="sr-only">, {plot.worst}</span>}
          </span>
        </span>
      </button>
      {inner.length > 0 && (
        <div className="flex flex-wrap items-start gap-1.5 border-t border-line p-1.5">
          {inner.map((each) => (
            <GroundBox key={each.plot.path} ground={each} chosen={chosen} choose={choose} />
          ))}
        </div>
      )}
    </div>
  );
}
