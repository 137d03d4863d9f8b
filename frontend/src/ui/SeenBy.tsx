import { useEffect, useState } from "react";
import { Choice } from "./Choice";

export const SELF = "local";
export const EVERYONE = "everyone";

export type Sight = "self" | "networks" | "everyone";

/** Who may see it: the server itself, some networks, everyone. */
export function sightOf(seenBy: string): Sight {
  if (!seenBy || seenBy === SELF) return "self";
  return seenBy === EVERYONE ? "everyone" : "networks";
}

/** Who a site is seen by, chosen; networks are typed, with blanks between. */
export function SeenBy({ value, say }: { value: string; say: (value: string) => void }) {
  const [networks, setNetworks] = useState(sightOf(value) === "networks" ? value : "");
  const [open, setOpen] = useState(false);
  useEffect(() => {
    if (sightOf(value) === "networks") setNetworks(value);
  }, [value]);
  const sight = open ? "networks" : sightOf(value);
  const choose = (chosen: string) => {
    setOpen(chosen === "networks");
    if (chosen === "networks") {
      if (networks) say(networks);
    } else say(chosen === "self" ? SELF : EVERYONE);
  };
  const typed = () => {
    if (networks.trim() && networks.trim() !== value) say(networks.trim());
  };
  return (
    <div className="flex flex-wrap items-baseline gap-4">
      <Choice
        words="Seen by"
        label="Seen by"
        value={sight}
        options={[
          ["self", "the server itself"],
          ["networks", "some networks"],
          ["everyone", "everyone"],
        ]}
        choose={choose}
      />
      {sight === "networks" && (
        <input
          aria-label="Networks that may see it"
          className="mono w-72 border border-line bg-sheet px-2 py-1 text-ink focus:border-ink"
          placeholder="local 192.0.2.0/24"
          value={networks}
          autoComplete="off"
          spellCheck={false}
          onChange={(event) => setNetworks(event.target.value)}
          onBlur={typed}
          onKeyDown={(event) => event.key === "Enter" && typed()}
        />
      )}
    </div>
  );
}
