import createClient, { type Middleware } from "openapi-fetch";
import type { components, paths } from "./schema";

type Schemas = components["schemas"];
export type Session = Schemas["SessionSchema"];
export type Plan = Schemas["PlanSchema"];
export type NewPlan = Schemas["NewPlanSchema"];
export type Job = Schemas["JobSchema"];
export type Draft = Schemas["DraftSchema"];
export type Operation = Schemas["OperationSchema"];
export type NightSummary = Schemas["NightSummarySchema"];
export type Night = Schemas["NightSchema"];
export type Reason = Schemas["ReasonSchema"];
export type Run = Schemas["RunSchema"];
export type CopyRun = Schemas["CopySchema"];
export type Load = Schemas["LoadSchema"];
export type Preview = Schemas["PreviewSchema"];
export type PreviewRequest = Schemas["PreviewRequestSchema"];
export type Lanes = Schemas["LanesSchema"];
export type MachineRun = Schemas["MachineRunSchema"];
export type Finding = Schemas["FindingSchema"];
export type Suggestion = Schemas["SuggestionSchema"];
export type TimePart = Schemas["TimePartSchema"];
export type ProblemBody = Schemas["ProblemSchema"];

/** An answer of the API that is an error, as a problem (RFC 9457). */
export class ApiProblem extends Error {
  constructor(
    readonly status: number,
    readonly problem: Partial<ProblemBody>,
  ) {
    super(
      [problem.title ?? "The server gave no answer that can be read", problem.detail]
        .filter(Boolean)
        .join(". "),
    );
  }
}

let csrfToken = "";

/** The token that unsafe requests carry; it comes with every answer about the session. */
export function rememberToken(session: Session): Session {
  csrfToken = session.csrf_token;
  return session;
}

const withToken: Middleware = {
  onRequest({ request }) {
    if (!["GET", "HEAD"].includes(request.method)) request.headers.set("X-CSRF-Token", csrfToken);
    return request;
  },
};

export const api = createClient<paths>({ baseUrl: "/" });
api.use(withToken);

/** The data of an answer, or an ApiProblem. */
export async function data<T>(
  answer: Promise<{ data?: T; error?: unknown; response: Response }>,
): Promise<T> {
  let result;
  try {
    result = await answer;
  } catch (error) {
    if (error instanceof DOMException && error.name === "AbortError") throw error;
    throw new ApiProblem(0, {
      title: "Gambrel does not answer",
      detail: "What is saved is safe. Check that the command still runs, then try again.",
    });
  }
  if (result.data === undefined)
    throw new ApiProblem(result.response.status, (result.error ?? {}) as Partial<ProblemBody>);
  return result.data;
}

/** Waits for an answer that carries nothing; an error becomes an ApiProblem. */
export async function done(answer: Promise<{ error?: unknown; response: Response }>) {
  await data(answer.then((a) => ({ ...a, data: a.response.ok ? true : undefined })));
}

/** Ask for a file with a body, and have the browser save it. */
export async function save(address: string, body: object) {
  const response = await fetch(address, {
    method: "POST",
    headers: { "Content-Type": "application/json", "X-CSRF-Token": csrfToken },
    body: JSON.stringify(body),
  });
  if (!response.ok)
    throw new ApiProblem(
      response.status,
      (await response.json().catch(() => ({}))) as Partial<ProblemBody>,
    );
  const named = /filename="?([^";]+)/.exec(response.headers.get("Content-Disposition") ?? "");
  const link = document.createElement("a");
  link.href = URL.createObjectURL(await response.blob());
  link.download = named?.[1] ?? address.split("/").pop()!;
  link.click();
  URL.revokeObjectURL(link.href);
}
