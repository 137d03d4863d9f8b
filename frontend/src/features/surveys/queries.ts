import { queryOptions, useMutation, useQueryClient } from "@tanstack/react-query";
import { client, type Schemas, take } from "../../api/client";

export type Survey = Schemas["Survey"];
export type Job = Schemas["Job"];

export const surveysQuery = queryOptions({
  queryKey: ["surveys"],
  queryFn: async () => take(await client.GET("/api/surveys")),
});

export const latestSurveyQuery = queryOptions({
  ...surveysQuery,
  select: (surveys: Survey[]): Survey | null => surveys.find((each) => !each.missing) ?? null,
});

const RUNNING = new Set(["waiting", "running"]);

export function isRunning(job: Job): boolean {
  return RUNNING.has(job.state ?? "");
}

export function jobQuery(id: number) {
  return queryOptions({
    queryKey: ["job", id],
    queryFn: async () =>
      take(await client.GET("/api/jobs/{number}", { params: { path: { number: id } } })),
    refetchInterval: (query) => (query.state.data && !isRunning(query.state.data) ? false : 700),
  });
}

export function useLoad() {
  return useMutation({
    mutationFn: async (file: File) =>
      take(
        await client.POST("/api/surveys", {
          // The generated type has a text where the form has a file.
          body: { file: file.name },
          bodySerializer: () => {
            const form = new FormData();
            form.append("file", file);
            return form;
          },
        }),
      ),
  });
}

export function useRemove() {
  const queries = useQueryClient();
  return useMutation({
    mutationFn: async (id: number) => {
      const path = { survey: String(id) };
      const { error, response } = await client.DELETE("/api/surveys/{survey}", {
        params: { path },
      });
      if (!response.ok) take({ error, response });
    },
    onSuccess: () => queries.invalidateQueries(),
  });
}

export function useCancel(id: number) {
  const queries = useQueryClient();
  return useMutation({
    mutationFn: async () =>
      take(await client.DELETE("/api/jobs/{number}", { params: { path: { number: id } } })),
    onSuccess: () => queries.invalidateQueries({ queryKey: ["job", id] }),
  });
}
