import { keepPreviousData, queryOptions } from "@tanstack/react-query";
import { client, type Schemas, take } from "../../api/client";

export type Founding = Schemas["FoundingView"];
export type Part = Schemas["PartView"];

/** What a new site is asked for by; each but the first two may be left to what is usual. */
export const WISHES = [
  "owner",
  "name",
  "engine",
  "folder",
  "names",
  "bindings",
  "log",
  "file",
  "seen_by",
] as const;
export type Wish = Partial<Record<(typeof WISHES)[number], string>>;

export function foundingQuery(wish: Wish) {
  return queryOptions({
    queryKey: ["founding", wish],
    queryFn: async () =>
      take(
        await client.GET("/api/surveys/{survey}/new-site", {
          params: { path: { survey: "latest" }, query: wish },
        }),
      ),
    // What was proposed stays while another letter is thought about.
    placeholderData: keepPreviousData,
  });
}
