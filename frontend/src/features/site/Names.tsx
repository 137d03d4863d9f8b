import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { AddToPlan } from "../../ui/AddToPlan";
import { namingQuery } from "./queries";

/** What a site is called, and the lines that would have it called otherwise. */
export function Names({ at }: { at: string }) {
  const known = useQuery(namingQuery(at, "", false));
  const [typed, setTyped] = useState<string | null>(null);
  const [wanted, setWanted] = useState("");
  const [leadsOver, setLeadsOver] = useState(true);
  const found = useQuery({ ...namingQuery(at, wanted, leadsOver), enabled: wanted !== "" });
  if (!known.data) return null;
  const now = known.data.now.join(" ");
  const kept = wanted.toLowerCase().split(/\s+/);
  const loses = wanted !== "" && known.data.now.some((name) => !kept.includes(name.toLowerCase()));
  return (
    <section aria-label="Its names" className="space-y-1">
      <h2 className="text-sm text-faint">Its names, its own first</h2>
      <form
        onSubmit={(event) => {
          event.preventDefault();
          setWanted((typed ?? now).trim());
        }}
      >
        <input
          aria-label="Its names"
          value={typed ?? now}
          onChange={(event) => setTyped(event.target.value)}
          onBlur={() => typed !== null && setWanted(typed.trim())}
          className="mono w-full border border-line bg-sheet px-2 py-1 focus:border-ink"
        />
      </form>
      {loses && (
        <label className="flex items-baseline gap-2">
          <input
            type="checkbox"
            checked={leadsOver}
            onChange={(event) => setLeadsOver(event.target.checked)}
          />
          <span>who asks for a name that it loses is sent on</span>
        </label>
      )}
      {found.isError && (
        <p role="alert" className="text-sm text-blocked">
          {found.error.message}
        </p>
      )}
      {found.data && found.data.operations.length > 0 && (
        <>
          <pre className="mono whitespace-pre-wrap border-l-4 border-line pl-3 text-sm">
            {found.data.lines.map((line, number) => (
              <span
                key={number}
                className={`block wrap-anywhere ${line.startsWith("-") ? "text-faint line-through decoration-1" : "text-ink"}`}
              >
                {line.slice(1)}
              </span>
            ))}
          </pre>
          <AddToPlan
            key={`${found.data.title} ${leadsOver}`}
            what={{ title: found.data.title, operations: found.data.operations }}
          />
        </>
      )}
    </section>
  );
}
