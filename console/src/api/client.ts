import createClient from "openapi-fetch";
import { wireLog } from "../sync/wireLog";
import type { components, paths } from "./schema";

export type Message = components["schemas"]["Message"];
export type Attachment = components["schemas"]["Attachment"];
export type Member = components["schemas"]["Member"];
export type Conversation = components["schemas"]["Conversation"];
export type Profile = components["schemas"]["Profile"];
export type ChangeSet = components["schemas"]["ChangeSet"];
export type HistoryPage = components["schemas"]["HistoryPage"];
export type Webhook = components["schemas"]["Webhook"];
export type ProblemDocument = components["schemas"]["ProblemDocument"];

/** A refusal of the service (RFC 9457). */
export class Refusal extends Error {
  constructor(readonly problem: ProblemDocument) {
    super(problem.detail);
  }

  /** Whether this is the problem type of that name. */
  is(name: string): boolean {
    return this.problem.type === `/problems/${name}`;
  }
}

/** The HTTP client for one member; `token` is asked before each request, and `check` may refuse to send it. */
export function makeApi(member: string, token: () => string, check: () => void) {
  const api = createClient<paths>({
    baseUrl: window.location.origin,
    fetch: (request) => noted(member, request),
  });
  api.use({
    onRequest({ request }) {
      check();
      request.headers.set("Authorization", `Bearer ${token()}`);
      return request;
    },
  });
  return api;
}

/** Send a request, and note both ways on the wire's log. */
async function noted(member: string, request: Request): Promise<Response> {
  const { pathname: whole, search } = new URL(request.url);
  // What lets somebody join is nobody's to copy from the log.
  const pathname = whole.replace(/(\/v1\/invitations\/)[^/]+/, "$1…");
  const sent = request.body ? await request.clone().text() : "";
  wireLog.note(
    { member, way: "out", door: "http", what: `${request.method} ${pathname}${search}`, ms: null },
    sent,
  );
  const began = performance.now();
  const answer = await fetch(request);
  const text = await answer.clone().text();
  const ms = performance.now() - began;
  wireLog.note({ member, way: "in", door: "http", what: `${answer.status} ${pathname}`, ms }, text);
  return answer;
}

export type Api = ReturnType<typeof makeApi>;

/** The data of an answer; a refusal is thrown. */
export async function answered<T>(
  exchange: Promise<{ data?: T; error?: unknown; response: Response }>,
): Promise<T> {
  const { data, error, response } = await exchange;
  if (response.ok) return data as T;
  const problem = error as Partial<ProblemDocument> | undefined;
  throw new Refusal({
    ...problem,
    type: problem?.type ?? "about:blank",
    title: problem?.title ?? response.statusText,
    status: problem?.status ?? response.status,
    detail: problem?.detail ?? `the service answered ${response.status}`,
  });
}
