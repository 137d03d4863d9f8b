import { queryOptions } from "@tanstack/react-query";
import { client, type Schemas, take } from "../../api/client";

export type Overview = Schemas["Overview"];
export type Site = Schemas["Site"];
export type Break = Schemas["Break"];
export type State = Schemas["SiteStateEnum"];
export type Group = Schemas["Group"];
export type BriefFinding = Schemas["BriefFinding"];
export type Finding = Schemas["Finding"];
export type Evidence = Schemas["Evidence"];
export type Remedy = Schemas["RemedyView"];

const LATEST = { survey: "latest" };

export const sitesQuery = queryOptions({
  queryKey: ["sites"],
  queryFn: async () =>
    take(await client.GET("/api/surveys/{survey}/sites", { params: { path: LATEST } })),
});

export function findingsQuery(accepted: boolean) {
  return queryOptions({
    queryKey: ["findings", accepted],
    queryFn: async () =>
      take(
        await client.GET("/api/surveys/{survey}/findings", {
          params: { path: LATEST, query: accepted ? { accepted } : {} },
        }),
      ),
  });
}

export function findingQuery(key: string) {
  return queryOptions({
    queryKey: ["finding", key],
    queryFn: async () =>
      take(
        await client.GET("/api/surveys/{survey}/findings/{key}", {
          params: { path: { ...LATEST, key } },
        }),
      ),
  });
}

export interface Acceptance {
  key: string;
  reason: string;
  until: string | null;
}

/** Lives with a finding, for a reason. */
export async function accept({ key, reason, until }: Acceptance) {
  return take(
    await client.PUT("/api/surveys/{survey}/findings/{key}/acceptance", {
      params: { path: { ...LATEST, key } },
      body: { reason, until },
    }),
  );
}

/** Puts a finding back into the queue. */
export async function takeUp(key: string) {
  const done = await client.DELETE("/api/surveys/{survey}/findings/{key}/acceptance", {
    params: { path: { ...LATEST, key } },
  });
  if (!done.response.ok) take(done);
}
