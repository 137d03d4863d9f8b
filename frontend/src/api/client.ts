import createClient from "openapi-fetch";
import type { components, paths } from "./schema.gen";

export type Schemas = components["schemas"];

let token = "";

/** The token that every change must carry; it comes with the session. */
export function rememberToken(given: string) {
  token = given;
}

export const client = createClient<paths>({ baseUrl: window.location.origin });

client.use({
  onRequest({ request }) {
    if (request.method !== "GET") request.headers.set("X-CSRFToken", token);
    return request;
  },
});

/** What went wrong, in one line that can be shown. */
export class Problem extends Error {
  constructor(
    message: string,
    readonly status: number,
  ) {
    super(message);
  }
}

interface Answer<T> {
  data?: T;
  error?: unknown;
  response: Response;
}

/** The data of an answer, or a Problem thrown. */
export function take<T>(answer: Answer<T>): T {
  if (answer.data !== undefined) return answer.data;
  throw new Problem(detail(answer.error), answer.response.status);
}

function detail(error: unknown): string {
  if (typeof error === "object" && error !== null && "detail" in error) return String(error.detail);
  return "The server did not answer as expected. Try again; its log says more.";
}
