/** Passages, as every place that follows an address asks for them. */
import { queryOptions } from "@tanstack/react-query";
import { client, type Schemas, take } from "../api/client";

export type Passage = Schemas["Passage"];
export type Rung = Schemas["RungView"];
export type Claim = Schemas["ClaimView"];

export interface Question {
  url: string;
  to?: string;
  source?: string;
  method?: string;
}

export function passageQuery(question: Question) {
  return queryOptions({
    queryKey: ["passage", question],
    queryFn: async () =>
      take(
        await client.GET("/api/surveys/{survey}/passage", {
          params: { path: { survey: "latest" }, query: question },
        }),
      ),
    enabled: question.url !== "",
  });
}

export type Verdict = Passage["gates"][number]["verdict"];

export const VERDICT_WORDS: Record<Verdict, string> = {
  clear: "passes",
  blocked: "blocked",
  diverted: "diverted",
  unsure: "unsure",
  skipped: "skipped",
};

/** How far the course of a request goes: to a gate, up to it, or behind the one that stops it. */
export type Course = "sailed" | "stopped" | "beyond";

export function courses(passage: Passage): Course[] {
  let course: Course = "sailed";
  const first = passage.obstacles[0]?.gate;
  return passage.gates.map((gate) => {
    if (course === "stopped") course = "beyond";
    if (course === "sailed" && first !== undefined && gate.gate === first) course = "stopped";
    return course;
  });
}
