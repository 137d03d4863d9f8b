import { useQuery } from "@tanstack/react-query";
import { client, take } from "../api/client";
import { plural } from "../lib/text";
import { Ways } from "./Ways";

interface Props {
  url: string;
  to?: string | undefined;
  source?: string | undefined;
}

/** One plan for all of a passage's obstacles that lie in owners, modes, ACLs and contexts. */
export function Mending({ url, to, source }: Props) {
  const query = { url, ...(to ? { to } : {}), ...(source ? { source } : {}) };
  const found = useQuery({
    queryKey: ["mending", query],
    queryFn: async () =>
      take(
        await client.GET("/api/surveys/{survey}/mending", {
          params: { path: { survey: "latest" }, query },
        }),
      ),
  });
  if (!found.data?.ways.length) return null;
  const { mends, of, ways } = found.data;
  return (
    <section aria-label="To mend it">
      <h3 className="mb-2 font-medium">
        {mends === of
          ? of === 1
            ? "What mends it"
            : `What mends all ${of} at once`
          : `What mends ${mends} of ${plural(of, "obstacle")}`}
      </h3>
      <Ways ways={ways} />
    </section>
  );
}
