import type { Schemas } from "../../api/client";

interface Props {
  end: Schemas["SealEnd"];
  now: number;
  until: number;
}

const FILLS: Record<string, string> = {
  over: "bg-blocked",
  "not-yet": "bg-blocked",
  soon: "bg-unsure",
  "in-time": "bg-clear",
};

/** How much of the time from the survey on a certificate still covers. */
export function EndBar({ end, now, until }: Props) {
  const share = Math.min(1, Math.max(0, (end.ends - now) / Math.max(1, until - now)));
  return (
    <div className="relative h-4 border-x border-line" aria-hidden="true">
      <div
        className={`absolute inset-y-1 left-0 opacity-40 ${FILLS[end.state]}`}
        style={{ width: `${share * 100}%` }}
      />
      <div
        className={`absolute inset-y-0 w-1 ${FILLS[end.state]}`}
        style={{ left: `calc(${share * 100}% - ${share > 0 ? 4 : 0}px)` }}
      />
    </div>
  );
}
