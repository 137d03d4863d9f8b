import { keepPreviousData, queryOptions } from "@tanstack/react-query";
import { client, type Schemas, take } from "../../api/client";

export type Plot = Schemas["Plot"];
export type GroundRoot = Schemas["GroundRoot"];

/** The document roots on the path tree, or those in one folder of it. */
export function rootsQuery(within: string, words: string) {
  return queryOptions({
    queryKey: ["roots", within, words],
    queryFn: async () =>
      take(
        await client.GET("/api/surveys/{survey}/roots", {
          params: { path: { survey: "latest" }, query: { within, q: words } },
        }),
      ),
    placeholderData: keepPreviousData,
  });
}
