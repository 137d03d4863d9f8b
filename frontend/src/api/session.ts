import { queryOptions, useMutation, useQueryClient } from "@tanstack/react-query";
import { client, rememberToken, type Schemas, take } from "./client";

export type Session = Schemas["Session"];

function kept(session: Session): Session {
  rememberToken(session.token);
  return session;
}

export const sessionQuery = queryOptions({
  queryKey: ["session"],
  queryFn: async () => kept(take(await client.GET("/api/session"))),
  staleTime: Number.POSITIVE_INFINITY,
});

export function useSignIn() {
  const queries = useQueryClient();
  return useMutation({
    mutationFn: async (body: Schemas["SignInRequest"]) =>
      kept(take(await client.POST("/api/session", { body }))),
    onSuccess: (session) => queries.setQueryData(sessionQuery.queryKey, session),
  });
}

export function useNewPassword() {
  const queries = useQueryClient();
  return useMutation({
    mutationFn: async (body: Schemas["NewPasswordRequest"]) =>
      kept(take(await client.POST("/api/session/password", { body }))),
    onSuccess: (session) => queries.setQueryData(sessionQuery.queryKey, session),
  });
}

export function useSignOut() {
  const queries = useQueryClient();
  return useMutation({
    mutationFn: async () => kept(take(await client.DELETE("/api/session"))),
    onSuccess: (session) => {
      queries.clear();
      queries.setQueryData(sessionQuery.queryKey, session);
    },
  });
}
