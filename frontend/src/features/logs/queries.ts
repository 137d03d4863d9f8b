import { keepPreviousData, queryOptions } from "@tanstack/react-query";
import { client, type Schemas, take } from "../../api/client";

export type Logs = Schemas["Logs"];
export type LogState = Schemas["LogState"];
export type LogOwner = Schemas["LogOwner"];
export type Figures = Schemas["Figures"];
export type Row = Schemas["Row"];
export type Failures = Schemas["Failures"];
export type FailureGroup = Schemas["FailureGroup"];
export type RawLine = Schemas["RawLine"];
export type Ways = Schemas["PageWays"];
export type Who = "everybody" | "people" | "automatic";

/** What is looked at: seconds since 1970, UTC; the end is not in it. */
export interface Asked {
  begin: number;
  end: number;
  site: string;
  classes: string;
  who: Who;
  /** Visitors' addresses whole, for those who may see them. */
  whole: boolean;
}

const path = { survey: "latest" };

export const logsQuery = queryOptions({
  queryKey: ["logs", "state"],
  queryFn: async () => take(await client.GET("/api/surveys/{survey}/logs", { params: { path } })),
  // While a job reads them, how far it is.
  refetchInterval: (query) => (isReading(query.state.data) ? 1000 : false),
});

export function isReading(logs: Logs | undefined): boolean {
  return logs?.job?.state === "waiting" || logs?.job?.state === "running";
}

export function figuresQuery(asked: Asked) {
  return queryOptions({
    queryKey: ["logs", "figures", asked],
    queryFn: async ({ signal }) =>
      take(
        await client.GET("/api/surveys/{survey}/logs/figures", {
          params: { path, query: asked },
          signal,
        }),
      ),
    placeholderData: keepPreviousData,
  });
}

export function failuresQuery(asked: Asked) {
  return queryOptions({
    queryKey: ["logs", "failures", asked],
    queryFn: async ({ signal }) =>
      take(
        await client.GET("/api/surveys/{survey}/logs/failures", {
          params: { path, query: asked },
          signal,
        }),
      ),
    placeholderData: keepPreviousData,
  });
}

export function linesQuery(asked: Asked, words: string, limit: number) {
  return queryOptions({
    queryKey: ["logs", "lines", asked, words, limit],
    queryFn: async ({ signal }) =>
      take(
        await client.GET("/api/surveys/{survey}/logs/lines", {
          params: { path, query: { ...asked, words, limit } },
          signal,
        }),
      ),
    placeholderData: keepPreviousData,
  });
}

export function rejectedQuery(log: number) {
  return queryOptions({
    queryKey: ["logs", "rejected", log],
    queryFn: async () =>
      take(
        await client.GET("/api/surveys/{survey}/logs/{log}/rejected", {
          params: { path: { ...path, log } },
        }),
      ),
  });
}

/** Has what is new in the logs read. */
export async function readNow() {
  return take(await client.POST("/api/surveys/{survey}/logs", { params: { path } }));
}
