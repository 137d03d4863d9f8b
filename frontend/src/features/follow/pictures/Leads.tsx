import type { Schemas } from "../../../api/client";

/** Where the name leads, step by step, and whether each address is this server's. */
export function Leads({ leads }: { leads: Schemas["LedView"][] }) {
  return (
    <ol aria-label="Where the name leads" className="space-y-px">
      {leads.map((step) => (
        <li
          key={`${step.name} ${step.target}`}
          data-state={step.ours === false ? "away" : "here"}
          className="grid grid-cols-[minmax(0,1fr)_11rem_minmax(0,1fr)_9rem] items-baseline gap-x-4 border-b border-line py-1.5 data-[state=away]:bg-blocked/10"
        >
          <code className="wrap-anywhere">{step.name}</code>
          <span className="text-sm text-faint">{step.words}</span>
          <code className="font-semibold wrap-anywhere">{step.target}</code>
          <Whose ours={step.ours} />
        </li>
      ))}
    </ol>
  );
}

function Whose({ ours }: { ours: boolean | null }) {
  if (ours === null) return <span />;
  return (
    <span className={`text-right ${ours ? "font-medium text-clear" : "font-bold text-blocked"}`}>
      {ours ? "this server" : "another server"}
    </span>
  );
}
