import { queryOptions } from "@tanstack/react-query";
import { client, type Schemas, take } from "../../api/client";
import type { Question } from "../../lib/passage";

export {
  type Claim,
  type Passage,
  passageQuery,
  type Question,
  type Rung,
} from "../../lib/passage";

export type Gate = Schemas["GateResult"];
export type Verdict = Schemas["VerdictEnum"];
export type Evidence = Schemas["Evidence"];
export type Label = Schemas["LabelView"];
export type Obstacle = Schemas["Obstacle"];
export type Compared = Schemas["Compared"];

export const startsQuery = queryOptions({
  queryKey: ["starts"],
  queryFn: async () =>
    take(
      await client.GET("/api/surveys/{survey}/starts", { params: { path: { survey: "latest" } } }),
    ),
});

/** Sends the real request to the surveyed server. */
export async function askServer(question: Question) {
  return take(
    await client.POST("/api/surveys/{survey}/reply", {
      params: { path: { survey: "latest" } },
      body: { method: "GET", ...question },
    }),
  );
}
