import { queryOptions } from "@tanstack/react-query";
import { client, type Schemas, take } from "../../api/client";

export type SurveyChanges = Schemas["SurveyChanges"];
export type Changes = Schemas["Changes"];
export type Change = Schemas["Change"];
export type Changed = Schemas["Changed"];

/** What changed up to a survey; since: another survey's number, null for the one before. */
export function changesQuery(survey: string, since: string | null) {
  return queryOptions({
    queryKey: ["changes", survey, since],
    queryFn: async () =>
      take(
        await client.GET("/api/surveys/{survey}/changes", {
          params: { path: { survey }, query: since ? { since: Number(since) } : {} },
        }),
      ),
  });
}
