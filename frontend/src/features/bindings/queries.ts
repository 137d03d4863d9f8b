import { keepPreviousData, queryOptions } from "@tanstack/react-query";
import { client, type Schemas, take } from "../../api/client";

export type Lane = Schemas["Lane"];
export type LaneName = Schemas["LaneName"];

/** Every lane; with words only the names that hold them. */
export function bindingsQuery(words: string) {
  return queryOptions({
    queryKey: ["bindings", words],
    queryFn: async () =>
      take(
        await client.GET("/api/surveys/{survey}/bindings", {
          params: { path: { survey: "latest" }, query: words ? { q: words } : {} },
        }),
      ),
    placeholderData: keepPreviousData,
  });
}
