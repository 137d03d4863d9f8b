import { queryOptions } from "@tanstack/react-query";
import { client, type Schemas, take } from "../../api/client";

export type Sheet = Schemas["Sheet"];
export type SheetDoor = Schemas["SheetDoor"];
export type SheetLine = Schemas["SheetLine"];
export type BriefFinding = Schemas["BriefFinding"];
export type Evidence = Schemas["Evidence"];

/** One site whole, by where it is declared; a personal one by its name too. */
export function siteQuery(at: string, name: string) {
  return queryOptions({
    queryKey: ["site", at, name],
    queryFn: async () =>
      take(
        await client.GET("/api/surveys/{survey}/site", {
          params: { path: { survey: "latest" }, query: name ? { at, name } : { at } },
        }),
      ),
    enabled: at !== "",
  });
}

/** Who is let in to a site, and the steps that let in others. */
export function openingQuery(at: string, seenBy: string) {
  return queryOptions({
    queryKey: ["opening", at, seenBy],
    queryFn: async () =>
      take(
        await client.GET("/api/surveys/{survey}/opening", {
          params: { path: { survey: "latest" }, query: { at, seen_by: seenBy } },
        }),
      ),
  });
}

/** The steps by which a site is called otherwise. */
export function namingQuery(at: string, names: string, leadsOver: boolean) {
  return queryOptions({
    queryKey: ["naming", at, names, leadsOver],
    queryFn: async () =>
      take(
        await client.GET("/api/surveys/{survey}/naming", {
          params: { path: { survey: "latest" }, query: { at, names, leads_over: leadsOver } },
        }),
      ),
    retry: false,
  });
}
