import { queryOptions, useQuery, useQueryClient } from "@tanstack/react-query";
import { useEffect, useRef } from "react";
import { client, type Schemas, take } from "../api/client";

type Job = Schemas["Job"];

// Milliseconds: while something is under way, and while nothing is.
const SOON = 1500;
const LATER = 15_000;

const underWayQuery = queryOptions({
  queryKey: ["under way"],
  queryFn: async () => take(await client.GET("/api/jobs")),
  refetchInterval: (query) => (query.state.data?.length ? SOON : LATER),
});

/** What is under way. What was asked before it ended is asked anew: its order may be another one. */
export function UnderWay() {
  const { data: jobs = [] } = useQuery(underWayQuery);
  const queries = useQueryClient();
  const before = useRef<number[]>([]);
  useEffect(() => {
    const now = jobs.map((job) => job.id);
    const ended = before.current.some((id) => !now.includes(id));
    before.current = now;
    if (ended) {
      queries.invalidateQueries({ predicate: (query) => query.queryKey[0] !== "under way" });
    }
  }, [jobs, queries]);
  const [job] = jobs;
  return (
    <p role="status" className="ml-auto min-w-0 truncate text-sm text-faint">
      {job && (
        <>
          {WORDS[job.kind ?? "survey"]}
          {share(job)}
          {job.kind === "logs" && "; the order may change then"}
          {jobs.length > 1 && `, and ${jobs.length - 1} more`}
        </>
      )}
    </p>
  );
}

const WORDS: Record<string, string> = {
  logs: "Logs are being read",
  survey: "A survey is being loaded",
  change: "The server is being changed",
};

function share(job: Job): string {
  return job.done && job.total ? `, ${Math.floor((100 * job.done) / job.total)} %` : "";
}
