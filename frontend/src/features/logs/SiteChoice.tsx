import { useEffect, useState } from "react";
import type { LogOwner } from "./queries";

interface Props {
  owners: LogOwner[];
  value: string;
  choose: (key: string) => void;
}

// With more sites than this, one is found by typing.
const MOST_IN_A_LIST = 200;
const MOST_OFFERED = 50;

/** Whose lines are looked at; nobody's are the whole server's. */
export function SiteChoice(props: Props) {
  return props.owners.length > MOST_IN_A_LIST ? <Typed {...props} /> : <Listed {...props} />;
}

function Listed({ owners, value, choose }: Props) {
  return (
    <select
      aria-label="Site"
      value={value}
      onChange={(event) => choose(event.target.value)}
      className="mono max-w-64 border-b border-ink bg-paper"
    >
      <option value="">the whole server</option>
      {owners.map((owner) => (
        <option key={owner.key} value={owner.key}>
          {owner.name}
        </option>
      ))}
    </select>
  );
}

function Typed({ owners, value, choose }: Props) {
  const named = owners.find((owner) => owner.key === value)?.name ?? value;
  const [text, setText] = useState(named);
  useEffect(() => setText(named), [named]);
  const put = (typed: string) => {
    setText(typed);
    const found = owners.find((owner) => owner.name === typed);
    if (found || !typed) choose(found?.key ?? "");
  };
  const offered = owners.filter((owner) => owner.name.includes(text)).slice(0, MOST_OFFERED);
  return (
    <>
      <input
        aria-label="Site"
        list="log-owners"
        value={text}
        placeholder="the whole server"
        onChange={(event) => put(event.target.value)}
        className="mono w-56 border-b border-ink bg-paper"
      />
      <datalist id="log-owners">
        {offered.map((owner) => (
          <option key={owner.key} value={owner.name} />
        ))}
      </datalist>
    </>
  );
}
