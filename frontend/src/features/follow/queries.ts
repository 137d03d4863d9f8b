import { queryOptions } from "@tanstack/react-query";
import { client, type Schemas, take } from "../../api/client";

export type Passage = Schemas["Passage"];
export type Gate = Schemas["GateResult"];
export type Verdict = Schemas["VerdictEnum"];
export type Evidence = Schemas["Evidence"];
export type Label = Schemas["LabelView"];
export type Rung = Schemas["RungView"];
export type Claim = Schemas["ClaimView"];
export type Obstacle = Schemas["Obstacle"];
export type Compared = Schemas["Compared"];

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

/** Sends the real request to the surveyed server. */
export async function askServer(question: Question) {
  return take(
    await client.POST("/api/surveys/{survey}/reply", {
      params: { path: { survey: "latest" } },
      body: { method: "GET", ...question },
    }),
  );
}
