import type { Schemas } from "../../../api/client";

/** Sections in the order in which they are merged: what comes later lies on top and decides. */
export function RuleLayers({ rules }: { rules: Schemas["RuleView"][] }) {
  return (
    <ol aria-label="Sections in the order merged" className="space-y-2">
      {rules.map((rule, number) => (
        <li
          key={`${rule.section} ${rule.lines[0]?.file}:${rule.lines[0]?.line}`}
          className={`border-l-4 py-1 pl-3 ${rule.effective ? (rule.outcome === "granted" ? "border-clear" : "border-blocked") : "border-line"}`}
          style={{ marginLeft: `${Math.min(number, 6) * 1.25}rem` }}
        >
          <div className="flex items-baseline gap-3">
            <code className={rule.effective ? "font-semibold" : ""}>{rule.section}</code>
            <span className={`text-sm ${rule.effective ? "font-bold" : "text-faint"}`}>
              {rule.words}
            </span>
          </div>
          <ul>
            {rule.lines.map((line) => (
              <li key={`${line.file}:${line.line}`} className="flex items-baseline gap-4">
                <code className={rule.effective ? "" : "line-through decoration-faint"}>
                  {line.text}
                </code>
                <span className="mono text-faint">
                  {line.file}:{line.line}
                </span>
              </li>
            ))}
          </ul>
        </li>
      ))}
    </ol>
  );
}
