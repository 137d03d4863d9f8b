import { useSearchParams } from "react-router";
import { count } from "../../lib/numbers";
import { usePut } from "../../lib/params";
import { cut } from "../../lib/text";
import type { Grouping, Shoal } from "./present";

/** The head of a group, and how many of it are not drawn. */
export function Title({ shoal, by }: { shoal: Shoal; by: Grouping }) {
  const left = shoal.left ?? 0;
  return (
    <h2 className="mb-1.5 flex items-baseline gap-2 border-b border-line">
      <span className={by === "kind" ? "font-medium" : "mono font-semibold"}>
        {cut(shoal.title)}
      </span>
      <span className="text-sm text-faint">{count(shoal.sites.length + left)}</span>
      {left > 0 && (
        <span className="ml-auto text-sm font-normal text-faint">
          {count(left)} are well and alike: <DrawAll>draw them</DrawAll>
        </span>
      )}
    </h2>
  );
}

/** Every mark, also of what is alike; or back to what differs. */
export function DrawAll({ children }: { children: string }) {
  const [params] = useSearchParams();
  const put = usePut();
  const all = params.get("all") === "true";
  return (
    <button
      type="button"
      onClick={() => put("all", all ? "" : "true")}
      className="cursor-pointer underline decoration-line underline-offset-3 hover:text-ink"
    >
      {children}
    </button>
  );
}
