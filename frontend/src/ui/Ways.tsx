import type { Schemas } from "../api/client";
import { plural } from "../lib/text";
import { AddToPlan } from "./AddToPlan";
import { Copy } from "./Copy";
import { Prose } from "./Prose";

export type Way = Schemas["WayView"];

/** Plans beside each other, the least opening first: what each does, and what else it opens. */
export function Ways({ ways }: { ways: Way[] }) {
  return (
    <ol className="space-y-3">
      {ways.map((way, number) => (
        <li key={way.title}>
          <details open={number === 0} className="border-l-4 border-clear pl-3">
            <summary className="cursor-pointer">
              <span className="font-medium">{way.title}</span>
              {ways.length > 1 && number === 0 && (
                <span className="ml-2 text-sm text-clear">opens the least</span>
              )}
            </summary>
            <Commands way={way} />
            {way.plan.length > 0 && <AddToPlan what={{ title: way.title, operations: way.plan }} />}
            <Effects words={way.opens} title="It also opens" tone="text-diverted" />
            <Effects words={way.closes} title="It closes" tone="text-faint" />
          </details>
        </li>
      ))}
    </ol>
  );
}

const SHOWN = 6;

function Commands({ way }: { way: Way }) {
  const rest = way.shell.length - SHOWN;
  return (
    <div className="mt-1">
      <ul className="space-y-0.5">
        {way.shell.slice(0, SHOWN).map((line) => (
          <li key={line}>
            <code className="wrap-anywhere">{line}</code>
          </li>
        ))}
      </ul>
      {rest > 0 && <p className="text-sm text-faint">and {plural(rest, "command")} more</p>}
      <Copy text={way.shell.join("\n")} label="all commands" />
    </div>
  );
}

function Effects({ words, title, tone }: { words: string[]; title: string; tone: string }) {
  if (!words.length) return null;
  const rest = words.length - SHOWN;
  return (
    <div className="mt-1.5">
      <h4 className="text-sm text-faint">{title}</h4>
      <ul className={`space-y-0.5 text-sm ${tone}`}>
        {words.slice(0, SHOWN).map((line) => (
          <li key={line} className="break-words">
            <Prose text={line} />
          </li>
        ))}
      </ul>
      {rest > 0 && <p className="text-sm text-faint">and {rest} more</p>}
    </div>
  );
}
