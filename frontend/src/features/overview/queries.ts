import { queryOptions } from "@tanstack/react-query";
import { client, type Schemas, take } from "../../api/client";

export type Overview = Schemas["Overview"];
export type Site = Schemas["Site"];
export type Break = Schemas["Break"];
export type State = Schemas["SiteStateEnum"];

export const sitesQuery = queryOptions({
  queryKey: ["sites"],
  queryFn: async () =>
    take(
      await client.GET("/api/surveys/{survey}/sites", { params: { path: { survey: "latest" } } }),
    ),
});
