import { useQuery } from "@tanstack/react-query";
import { Link, useSearchParams } from "react-router";
import { usePut } from "../../lib/params";
import { cut, plural } from "../../lib/text";
import { OnlyWith } from "../../ui/OnlyWith";
import { Failed, Waiting } from "../../ui/States";
import { GroundBox } from "./GroundBox";
import { around, tree } from "./present";
import { rootsQuery } from "./queries";
import { RootPane } from "./RootPane";

/** The path tree as ground, and the document roots on it. */
export function RootsPage() {
  const [params] = useSearchParams();
  const put = usePut();
  const within = params.get("within") ?? "/";
  const chosen = params.get("root");
  const words = params.get("q") ?? "";
  const found = useQuery(rootsQuery(within, words));
  if (found.isPending) return <Waiting>Reading the ground</Waiting>;
  if (found.isError) return <Failed error={found.error} retry={found.refetch} />;
  const plot = found.data.plots.find((each) => each.root?.path === chosen);
  const choose = (path: string) => put("root", path);
  return (
    <div className="grid h-full grid-cols-[minmax(0,1fr)_24rem]">
      <section aria-label="Ground" className="flex min-h-0 flex-col">
        <div className="flex items-baseline gap-4 px-5 py-3">
          <h1 className="sr-only">Roots</h1>
          <OnlyWith words={words} put={(text) => put("q", text, true)} />
          <span className="mono" title={within}>
            {cut(within)}
          </span>
          {within !== "/" && (
            <Link
              className="text-sm underline"
              to={`/roots?${new URLSearchParams({ within: around(within) })}`}
            >
              one folder up
            </Link>
          )}
          <p role="status" className="ml-auto text-sm text-faint">
            {plural(found.data.roots, "root")}, tinted by owner
          </p>
        </div>
        <div className="min-h-0 flex-1 overflow-auto px-5 pb-6">
          {found.data.roots === 0 && <p className="py-8 text-faint">No root has these words.</p>}
          {tree(found.data.plots).map((ground) => (
            <GroundBox key={ground.plot.path} ground={ground} chosen={chosen} choose={choose} />
          ))}
        </div>
      </section>
      <aside
        aria-label="Root"
        className="min-h-0 overflow-auto border-l border-line bg-sheet px-5 py-4"
      >
        {plot ? <RootPane plot={plot} /> : <Hint />}
      </aside>
    </div>
  );
}

function Hint() {
  return (
    <div className="space-y-2 text-faint">
      <h2 className="text-xl font-medium text-ink">Where do sites lie?</h2>
      <p>
        Each plot is a document root, tinted by its owner and drawn where it lies; one inside
        another is drawn inside it. A dashed plot is not there. A mark shows the worst that is wrong
        in it.
      </p>
      <p>
        Choose a plot to see its sites, its files and what they go out as; choose a folder to go in.
      </p>
    </div>
  );
}
