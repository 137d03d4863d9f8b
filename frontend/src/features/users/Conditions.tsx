import type { Condition, User, Users } from "./queries";

interface Props {
  users: User[];
  conditions: Users["conditions"];
  by: string;
  sort: (name: string) => void;
  chosen: string | null;
  choose: (account: string) => void;
  picked: string[];
  pick: (accounts: string[]) => void;
}

const ROW = "grid grid-cols-[1.5rem_8rem_repeat(8,minmax(3.6rem,1fr))] items-center gap-x-1";

/** Accounts down, conditions across in the order in which they bite. */
export function Conditions(props: Props) {
  const { users, conditions, by, sort, picked, pick } = props;
  const failing = users.filter((user) => user.first).map((user) => user.account);
  const all = failing.length > 0 && failing.every((account) => picked.includes(account));
  return (
    <div className="min-w-2xl">
      <div className={`${ROW} sticky top-0 z-10 border-b border-ink bg-paper pb-1`}>
        <input
          type="checkbox"
          aria-label="Pick all that do not answer"
          checked={all}
          disabled={!failing.length}
          onChange={() => pick(all ? [] : failing)}
        />
        <span className="text-sm text-faint">account</span>
        {conditions.map((condition) => (
          <button
            key={condition.name}
            type="button"
            aria-pressed={by === condition.name}
            onClick={() => sort(condition.name)}
            className={`cursor-pointer px-0.5 text-left text-xs leading-tight hover:text-ink ${by === condition.name ? "font-medium text-ink underline" : "text-faint"}`}
          >
            {condition.words}
          </button>
        ))}
      </div>
      <ul>
        {users.map((user) => (
          <Row key={user.account} user={user} {...props} />
        ))}
      </ul>
      {users.length === 0 && <p className="py-8 text-faint">No account has these words.</p>}
    </div>
  );
}

function Row({ user, chosen, choose, picked, pick }: Props & { user: User }) {
  const on = picked.includes(user.account);
  const turn = () =>
    pick(on ? picked.filter((each) => each !== user.account) : [...picked, user.account]);
  return (
    <li className={`${ROW} border-b border-line py-1 ${chosen === user.account ? "bg-shoal" : ""}`}>
      <input type="checkbox" aria-label={`Pick ${user.account}`} checked={on} onChange={turn} />
      <button
        type="button"
        onClick={() => choose(user.account)}
        aria-pressed={chosen === user.account}
        className="mono cursor-pointer truncate text-left hover:underline"
      >
        <span className={user.first ? "font-semibold" : "text-faint"}>{user.account}</span>
        <span className="sr-only">{user.first ? `: ${user.why}` : ": the page answers"}</span>
      </button>
      {user.conditions.map((condition) => (
        <Mark key={condition.name} condition={condition} first={user.first === condition.name} />
      ))}
    </li>
  );
}

/** The state in a shape; the first failure is filled, later ones are hollow. */
export function Mark({ condition, first }: { condition: Condition; first: boolean }) {
  return (
    <svg
      width="22"
      height="22"
      viewBox="0 0 24 24"
      role="img"
      aria-label={`${condition.name}: ${condition.state}`}
      className="ml-1"
    >
      {shape(condition.state, first)}
    </svg>
  );
}

function shape(state: string, first: boolean) {
  switch (state) {
    case "ok":
      return <path d="M4 12 H20" className="stroke-clear" strokeWidth="2.4" />;
    case "fails":
      return (
        <g className="stroke-blocked" fill="none" strokeWidth="2.4">
          <path d="M4 3 V21 M20 3 V21" />
          <path d="M4 8 H20 V16 H4 Z" className={first ? "fill-blocked" : ""} strokeWidth="1.6" />
        </g>
      );
    case "unsure":
      return (
        <path d="M3 12 H21" className="stroke-unsure" strokeWidth="2.4" strokeDasharray="3 3" />
      );
    default:
      return <circle cx="12" cy="12" r="1.6" className="fill-skipped" />;
  }
}
