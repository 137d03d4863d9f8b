import { Link } from "react-router";
import { count } from "../../lib/numbers";
import { Copy } from "../../ui/Copy";
import { atSecond, zoneWords } from "./present";
import type { RawLine } from "./queries";

interface Field {
  name: string;
  value: string;
  means: string;
}

/** One line, field by field, in words. */
export function LinePane({ line, zone }: { line: RawLine; zone: number }) {
  const follow = new URLSearchParams({ url: line.url });
  if (line.method && line.method !== "GET") follow.set("method", line.method);
  return (
    <article aria-label="Line" className="space-y-4">
      <code className="block border-l-4 border-line pl-3 wrap-anywhere">{line.text}</code>
      {line.url && (
        <Link to={`/follow?${follow}`} className="block w-fit underline">
          follow this request
        </Link>
      )}
      <dl className="space-y-2">
        {fields(line, zone).map((field) => (
          <div key={field.name} className="grid grid-cols-[6rem_minmax(0,1fr)] gap-3">
            <dt className="text-faint">{field.name}</dt>
            <dd className="min-w-0">
              <span className="mono wrap-anywhere">{field.value}</span>
              <span className="block text-sm text-faint">{field.means}</span>
            </dd>
          </div>
        ))}
      </dl>
      <p className="text-sm text-faint">
        <span className="mono wrap-anywhere">{line.path}</span>, from byte {count(line.offset)}{" "}
        <Copy text={line.path} label="the path" />
      </p>
    </article>
  );
}

function fields(line: RawLine, zone: number): Field[] {
  const found: Field[] = [
    {
      name: "time",
      value: `${atSecond(line.at, zone)} ${zoneWords(zone)}`,
      means: "when the request came, or, with nginx, when its answer had gone out",
    },
    { name: "site", value: line.site, means: "whose log this is, or whom the line names" },
    {
      name: "client",
      value: line.client,
      means: "the visitor's address; its end is left out where nobody asked for it",
    },
  ];
  if (line.user && line.user !== "-") {
    found.push({ name: "user", value: line.user, means: "the name that was given to sign in" });
  }
  if (line.method) {
    found.push(
      { name: "method", value: line.method, means: METHODS[line.method] ?? "what was asked to do" },
      { name: "target", value: line.target, means: "the address behind the name, as it was sent" },
    );
  } else {
    found.push({ name: "request", value: "-", means: "nothing that is a request" });
  }
  found.push(
    { name: "status", value: String(line.status || "-"), means: statusWords(line.status) },
    {
      name: "size",
      value: `${count(line.size)} bytes`,
      means: "of the answer; whether with its head depends on the form of the log",
    },
  );
  if (line.took !== null) {
    found.push({ name: "took", value: `${line.took} ms`, means: "until the answer had gone out" });
  }
  if (line.host) {
    found.push({ name: "name", value: line.host, means: "the name that was asked for" });
  }
  if (line.referrer) {
    found.push({
      name: "referrer",
      value: line.referrer,
      means: line.referrer === "-" ? "not told" : "the page that led here, as the visitor says",
    });
  }
  if (line.agent) {
    found.push({
      name: "agent",
      value: line.agent,
      means: "what the visitor's program calls itself",
    });
  }
  return found;
}

const METHODS: Record<string, string> = {
  GET: "asks for what is there",
  HEAD: "asks whether it is there, without its content",
  POST: "sends something, as a form does",
};

// RFC 9110, section 15.
const STATUSES: Record<number, string> = {
  200: "it went out",
  204: "done, and there is nothing to send",
  206: "a part of it went out",
  301: "sent on for good",
  302: "sent on for now",
  304: "the visitor's copy still holds",
  400: "the request makes no sense",
  401: "a sign-in is asked for",
  403: "refused",
  404: "not there",
  405: "not with this method",
  408: "the visitor took too long",
  410: "gone for good",
  414: "the address is too long",
  421: "the name is not served on this connection",
  500: "the server or its configuration fails",
  502: "what stands behind the server answered wrongly",
  503: "the server, or what stands behind it, does not serve now",
  504: "what stands behind the server took too long",
};

function statusWords(status: number): string {
  const known = STATUSES[status];
  if (known) return known;
  if (status >= 500) return "the server fails";
  if (status >= 400) return "the request was turned down";
  if (status >= 300) return "sent on";
  return status ? "answered" : "the line does not say it";
}
