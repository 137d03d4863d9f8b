import { Link } from "react-router";
import { Mending } from "../../ui/Mending";
import { Prose } from "../../ui/Prose";
import { Mark } from "./Conditions";
import type { User, Users } from "./queries";

/** One account: its conditions with their reasons, and what mends them. */
export function Account({ user, conditions }: { user: User; conditions: Users["conditions"] }) {
  const words = new Map(conditions.map((each) => [each.name, each.words]));
  return (
    <article aria-label="Account" className="space-y-5">
      <header>
        <h2 className="mono text-xl font-semibold">{user.account}</h2>
        <p className="min-w-0">
          <Link
            to={`/follow?${new URLSearchParams({ url: user.url })}`}
            className="mono wrap-anywhere underline"
          >
            {user.url}
          </Link>{" "}
          <span className={user.first ? "font-medium text-blocked" : "text-clear"}>
            {user.status ?? "no answer"}
          </span>
        </p>
        <p className="text-sm">
          <Link className="underline" to={`/who?${new URLSearchParams({ path: user.folder })}`}>
            who may in <span className="mono wrap-anywhere">{user.folder}</span>
          </Link>
        </p>
      </header>
      <ol className="space-y-2">
        {user.conditions
          .filter((each) => each.state !== "beside")
          .map((condition) => (
            <li key={condition.name} className="grid grid-cols-[2rem_1fr] items-start">
              <Mark condition={condition} first={user.first === condition.name} />
              <span className="min-w-0 break-words">
                <span className={condition.state === "fails" ? "font-medium" : "text-faint"}>
                  {words.get(condition.name)}
                </span>
                {condition.why && condition.state !== "ok" && (
                  <span className="block text-sm">
                    <Prose text={condition.why} />
                  </span>
                )}
              </span>
            </li>
          ))}
      </ol>
      {user.first && <Mending url={user.url} />}
    </article>
  );
}
