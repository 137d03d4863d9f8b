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
