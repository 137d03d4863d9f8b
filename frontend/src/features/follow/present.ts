import type { Claim, Gate, Passage, Passage as PassageType, Question } from "./queries";

/** The question that the page's address holds. */
export function questionOf(params: URLSearchParams): Question {
  const question: Question = { url: params.get("url") ?? "" };
  for (const [key, name] of [
    ["to", "to"],
    ["from", "source"],
    ["method", "method"],
  ] as const) {
    const value = params.get(key);
    if (value) question[name] = value;
  }
  return question;
}

/** The place on the screen where a question is answered. */
export function addressOf(question: Question, gate?: string): string {
  const params = new URLSearchParams({ url: question.url });
  if (question.to) params.set("to", question.to);
  if (question.source) params.set("from", question.source);
  if (question.method) params.set("method", question.method);
  if (gate) params.set("gate", gate);
  return `/follow?${params}`;
}

/** The number of the first gate at which two passages part; null where they never do. */
export function parting(one: Passage, other: Passage): number | null {
  const at = one.gates.findIndex((gate, number) => {
    const beside = other.gates[number];
    return gate.verdict !== beside?.verdict || gate.code !== beside.code;
  });
  return at < 0 ? null : at;
}

/** How the course runs at each gate: as far as the request comes, and as it would go on. */
/** The gate that stands open: the one that was chosen, or else the one that decides. */
export function openGate(passage: Passage, chosen: string | null): Gate | undefined {
  const name = chosen ?? refusal(passage)?.gate ?? passage.deciding_gate;
  return passage.gates.find((gate) => gate.gate === name) ?? passage.gates[0];
}

/** The gate at which a browser gives up by itself, though the server would answer. */
export function refusal(passage: Passage): Gate | undefined {
  return passage.gates.find((gate) => gate.verdict === "clear" && gate.seals?.[0]?.fault);
}

/** Claims in runs. first: its place among all, from 0. Those that claim other names stand together,
 * where there are several; each of the others stands alone.
 */
export function foldedClaims(claims: Claim[]): { first: number; claims: Claim[] }[] {
  const runs: { first: number; claims: Claim[] }[] = [];
  claims.forEach((claim, first) => {
    const last = runs.at(-1);
    const joins = claim.outcome === "other-name" && last?.claims[0]?.outcome === "other-name";
    if (joins) last?.claims.push(claim);
    else runs.push({ first, claims: [claim] });
  });
  return runs;
}

const STATUS_WORDS: Record<number, string> = {
  200: "The page is shown",
  301: "Sent on, for good",
  302: "Sent on",
  400: "Refused as malformed",
  401: "Asked to sign in",
  403: "Refused",
  404: "Not found",
  405: "Refused for its method",
  500: "The server fails",
};

/** Whether all is known, but for what the answer holds under. */
export function isSure(passage: PassageType): boolean {
  return passage.decided || Boolean(passage.premise);
}

export function outcomeWords(passage: PassageType): string {
  if (!isSure(passage)) return "Not sure";
  if (passage.status === null) return "No answer";
  return STATUS_WORDS[passage.status] ?? "Answered";
}

export type Tone = "clear" | "blocked" | "diverted" | "unsure";

export const TONES: Record<Tone, string> = {
  clear: "border-clear text-clear",
  blocked: "border-blocked text-blocked",
  diverted: "border-diverted text-diverted",
  unsure: "border-unsure text-unsure",
};

export function tone(passage: PassageType): Tone {
  if (!isSure(passage)) return "unsure";
  if (passage.status === null || passage.status >= 400) return "blocked";
  if (passage.status >= 300) return "diverted";
  return passage.gates.some((gate) => gate.verdict === "diverted") ? "diverted" : "clear";
}
