/** A place or an action that a word may lead to. */
export interface Place {
  kind: "place" | "action";
  name: string;
  detail: string;
  to: string;
}

const place = (name: string, to: string, detail: string): Place => ({
  kind: "place",
  name,
  detail,
  to,
});
const action = (name: string, to: string, detail: string): Place => ({
  kind: "action",
  name,
  detail,
  to,
});

/** All that can be gone to without naming anything of the server. */
export const EVERYWHERE: readonly Place[] = [
  place("Overview", "/", "all sites, and what is wrong"),
  place("Follow", "/follow", "what happens to an address, and why"),
  place("Bindings", "/bindings", "addresses, ports and names, and who answers"),
  place("Certificates", "/certificates", "when each ends, names, keys and TLS"),
  place("Roots", "/roots", "folders that are served, and what lies in them"),
  place("User sites", "/users", "every account's own site"),
  place("Neighbours", "/users?view=neighbours", "who can read or change whose files"),
  place("Contexts", "/contexts", "what the policy lets the web servers do"),
  place("Logs", "/logs", "why requests failed"),
  place("Engines", "/engines", "what runs, and what it has read"),
  place("Who may", "/who", "what each account may do at a path"),
  place("Changes", "/changes", "plans, and the ledger"),
  place("Surveys", "/surveys", "what is known of the server, and since when"),
  place("What changed", "/surveys/changes", "one survey beside another"),
  action("A new site", "/new-site", "proposed from two answers"),
  action("Load a survey", "/surveys", "from a file"),
  action("Mend user sites", "/users", "as one plan"),
];

const MOST = 6;

/** Those that a text may mean: what begins with it first, then what holds it. */
export function placesFor(typed: string): Place[] {
  const text = typed.trim().toLowerCase();
  if (!text) return [...EVERYWHERE];
  const rank = ({ name, detail }: Place) => {
    const words = name.toLowerCase();
    if (words.startsWith(text)) return 0;
    if (words.split(" ").some((word) => word.startsWith(text))) return 1;
    return detail.split(/[ ,]+/).some((word) => word.startsWith(text)) && text.length > 2 ? 2 : 3;
  };
  return EVERYWHERE.filter((each) => rank(each) < 3)
    .sort((one, other) => rank(one) - rank(other))
    .slice(0, MOST);
}
