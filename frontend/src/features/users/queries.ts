import { queryOptions } from "@tanstack/react-query";
import { client, type Schemas, take } from "../../api/client";

export type Users = Schemas["UsersView"];
export type User = Schemas["UserSite"];
export type Condition = Schemas["SiteCondition"];
export type Template = Schemas["Template"];
export type Cell = Schemas["Neighbour"];

const LATEST = { survey: "latest" };

export const usersQuery = queryOptions({
  queryKey: ["users"],
  queryFn: async () =>
    take(await client.GET("/api/surveys/{survey}/users", { params: { path: LATEST } })),
});

export const neighboursQuery = queryOptions({
  queryKey: ["neighbours"],
  queryFn: async () =>
    take(await client.GET("/api/surveys/{survey}/neighbours", { params: { path: LATEST } })),
});

/** One plan for the chosen accounts; nothing is changed. */
export async function planFor(accounts: string[]) {
  return take(
    await client.POST("/api/surveys/{survey}/users", {
      params: { path: LATEST },
      body: { accounts },
    }),
  );
}
