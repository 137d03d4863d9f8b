import { QueryCache, QueryClient, QueryClientProvider, useQuery } from "@tanstack/react-query";
import { lazy, Suspense } from "react";
import { BrowserRouter, Navigate, Route, Routes } from "react-router";
import { Problem } from "../api/client";
import { sessionQuery } from "../api/session";
import { BindingsPage } from "../features/bindings";
import { ChangesPage } from "../features/changes";
import { ContextsPage } from "../features/contexts";
import { EnginesPage } from "../features/engines";
import { FollowPage } from "../features/follow";
import { NewSitePage } from "../features/founding";
import { OverviewPage } from "../features/overview";
import { RootsPage } from "../features/roots";
import { SealsPage } from "../features/seals";
import { SincePage } from "../features/since";
import { SitePage } from "../features/site";
import { SurveysPage } from "../features/surveys";
import { UsersPage } from "../features/users";
import { WhoPage } from "../features/who";
import { Failed, Waiting } from "../ui/States";
import { Frame } from "./Frame";
import { Guard } from "./Guard";
import { NewPassword, SignIn } from "./SignIn";

// With its plots: nobody else waits for them.
const LogsPage = lazy(async () => ({ default: (await import("../features/logs")).LogsPage }));

const queries: QueryClient = new QueryClient({
  queryCache: new QueryCache({
    // A session that nobody used has ended: sign in again, and be where one was.
    onError: (error) => {
      if (error instanceof Problem && error.status === 403) {
        queries.invalidateQueries({ queryKey: sessionQuery.queryKey });
      }
    },
  }),
  defaultOptions: {
    queries: {
      staleTime: 60_000,
      refetchOnWindowFocus: false,
      retry: (count, error) => !(error instanceof Problem) && count < 2,
    },
  },
});

export function App() {
  return (
    <QueryClientProvider client={queries}>
      {/* No transitions: boxes and fields keep their state in the address, and must show it at once. */}
      <BrowserRouter useTransitions={false}>
        <Guard>
          <Rooms />
        </Guard>
      </BrowserRouter>
    </QueryClientProvider>
  );
}

function Rooms() {
  const session = useQuery(sessionQuery);
  if (session.isPending) return <Waiting>Opening the chart room</Waiting>;
  if (session.isError) return <Failed error={session.error} retry={session.refetch} />;
  if (!session.data.signed_in) return <SignIn />;
  if (session.data.must_change) return <NewPassword name={session.data.name} />;
  return (
    <Routes>
      <Route element={<Frame user={session.data.name} />}>
        <Route index element={<OverviewPage />} />
        <Route path="follow" element={<FollowPage />} />
        <Route path="bindings" element={<BindingsPage />} />
        <Route path="certificates" element={<SealsPage />} />
        <Route path="site" element={<SitePage />} />
        <Route path="new-site" element={<NewSitePage />} />
        <Route path="changes" element={<ChangesPage />} />
        <Route path="users" element={<UsersPage />} />
        <Route path="contexts" element={<ContextsPage />} />
        <Route path="engines" element={<EnginesPage />} />
        <Route
          path="logs"
          element={
            <Suspense fallback={<Waiting>Opening the logs</Waiting>}>
              <LogsPage />
            </Suspense>
          }
        />
        <Route path="who" element={<WhoPage />} />
        <Route path="roots" element={<RootsPage />} />
        <Route path="surveys/changes" element={<SincePage />} />
        <Route path="surveys" element={<SurveysPage />} />
        <Route path="*" element={<Navigate to="/" replace />} />
      </Route>
    </Routes>
  );
}
