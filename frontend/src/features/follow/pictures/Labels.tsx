import type { Label } from "../queries";

/** Each step with the type that it has, and the one that the rules give it where that differs. */
export function Labels({ labels }: { labels: Label[] }) {
  return (
    <ol aria-label="Types on the way" className="space-y-px">
      {labels.map((label, depth) => (
        <li
          key={`${label.path} ${label.kind}`}
          data-state={label.allowed === false ? "shut" : "open"}
          className="grid grid-cols-[minmax(0,1fr)_minmax(0,1fr)_7.5rem] items-baseline gap-x-4 border-b border-line py-1.5 data-[state=shut]:bg-blocked/10"
          style={{ paddingLeft: `${Math.min(depth, 9) * 0.9}rem` }}
        >
          <code className="font-semibold wrap-anywhere">{label.name}</code>
          <span className="min-w-0">
            <code className="wrap-anywhere">{label.type || "no context known"}</code>
            {label.differs && (
              <span className="block text-sm">
                <span className="text-faint">the rules give it </span>
                <code className="text-unsure wrap-anywhere">{label.expected}</code>
              </span>
            )}
            {label.allowed === false && (
              <span className="block text-sm break-words text-faint">{label.words}</span>
            )}
          </span>
          <Answer allowed={label.allowed} />
        </li>
      ))}
    </ol>
  );
}

function Answer({ allowed }: { allowed: boolean | null }) {
  if (allowed === null)
    return <span className="text-right font-medium text-unsure">not known</span>;
  return (
    <span className={`text-right ${allowed ? "font-medium text-clear" : "font-bold text-blocked"}`}>
      {allowed ? "may" : "may not"}
    </span>
  );
}
