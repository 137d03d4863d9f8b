import { queryOptions, useMutation, useQueryClient } from "@tanstack/react-query";
import { client, type Schemas, take } from "./client";

export type Plan = Schemas["Plan"];
/** Operations in the plan format, or what mends a finding. */
export type Addition = Partial<Schemas["AdditionRequest"]>;

const NOTHING = { title: "", operations: [], finding: "", remedy: 0, together: false };

export const plansQuery = queryOptions({
  queryKey: ["plans"],
  queryFn: async () => take(await client.GET("/api/plans")),
});

/** Adds steps to the plan that is being written, or begins one. */
export function useAdd() {
  const queries = useQueryClient();
  return useMutation({
    mutationFn: async (what: Addition) =>
      take(await client.POST("/api/plans", { body: { ...NOTHING, ...what } })),
    onSuccess: (plan) => {
      queries.invalidateQueries({ queryKey: ["plans"] });
      queries.invalidateQueries({ queryKey: ["rehearsal", plan.id] });
    },
  });
}
