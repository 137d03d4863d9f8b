import { queryOptions, useMutation, useQueryClient } from "@tanstack/react-query";
import { client, Problem, type Schemas, take } from "../../api/client";

export type Rehearsal = Schemas["RehearsalView"];
export type Fared = Schemas["Fared"];
export type Entry = Schemas["Entry"];
export type Job = Schemas["Job"];

export const ledgerQuery = queryOptions({
  queryKey: ["ledger"],
  queryFn: async () => take(await client.GET("/api/ledger")),
  // What waits to be kept is taken back by itself.
  refetchInterval: (query) => (query.state.data?.entries.some(waits) ? 2000 : false),
});

export function waits(entry: Entry): boolean {
  return entry.state === "done" && entry.until !== null;
}

export const rehearsalQuery = (id: number, changed: string) =>
  queryOptions({
    queryKey: ["rehearsal", id, changed],
    queryFn: async () =>
      take(
        await client.GET("/api/surveys/{survey}/rehearsal/{number}", {
          params: { path: { survey: "latest", number: id } },
        }),
      ),
  });

const SOON = 400; // milliseconds

export const jobQuery = (id: number) =>
  queryOptions({
    queryKey: ["job", id],
    queryFn: async () =>
      take(await client.GET("/api/jobs/{number}", { params: { path: { number: id } } })),
    refetchInterval: (query) => (isRunning(query.state.data) ? SOON : false),
  });

export function isRunning(job: Job | undefined): boolean {
  return job === undefined || job.state === "waiting" || job.state === "running";
}

export function useChange(id: number) {
  const queries = useQueryClient();
  return useMutation({
    mutationFn: async (body: { title?: string; order?: number[] }) =>
      take(await client.PATCH("/api/plans/{number}", { params: { path: { number: id } }, body })),
    onSuccess: () => queries.invalidateQueries({ queryKey: ["plans"] }),
  });
}

export function useThrowAway(id: number) {
  const queries = useQueryClient();
  return useMutation({
    mutationFn: async () => {
      const answer = await client.DELETE("/api/plans/{number}", {
        params: { path: { number: id } },
      });
      if (!answer.response.ok) throw new Problem("It was not thrown away.", answer.response.status);
    },
    onSuccess: () => queries.invalidateQueries({ queryKey: ["plans"] }),
  });
}

interface Said {
  although?: string[];
  password: string;
  minutes?: number;
}

export function useApply(id: number) {
  return useMutation({
    mutationFn: async (said: Said) =>
      take(
        await client.POST("/api/plans/{number}/apply", {
          params: { path: { number: id } },
          body: { although: [], minutes: 0, ...said },
        }),
      ),
  });
}

export function useUndo(entry: number) {
  return useMutation({
    mutationFn: async (said: Said) =>
      take(
        await client.POST("/api/ledger/{number}/undo", {
          params: { path: { number: entry } },
          body: { although: [], minutes: 0, ...said },
        }),
      ),
  });
}

export function useKeep(entry: number) {
  const queries = useQueryClient();
  return useMutation({
    mutationFn: async (said: Said) => {
      const answer = await client.POST("/api/ledger/{number}/keep", {
        params: { path: { number: entry } },
        body: { although: [], minutes: 0, ...said },
      });
      if (!answer.response.ok) take(answer);
    },
    onSuccess: () => queries.invalidateQueries({ queryKey: ["ledger"] }),
  });
}

/** Asks for a change to be given up: what was begun of it is taken back. */
export function useGiveUp(id: number) {
  return useMutation({
    mutationFn: async () =>
      take(await client.DELETE("/api/jobs/{number}", { params: { path: { number: id } } })),
  });
}
