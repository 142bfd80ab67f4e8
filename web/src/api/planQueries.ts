import { type QueryClient, queryOptions } from "@tanstack/react-query";
import {
  api,
  type Draft,
  data,
  type NewPlan,
  type Operation,
  type PreviewRequest,
  rememberToken,
} from "./client";

/** A plan in the version that is adopted. */
export interface PlanState {
  id: number;
  adopted_version: number;
}

/** What an answer about a plan, or about a draft of it, depends on. */
export const stateOf = (plan: PlanState, draft: { id: number; revision: number } | null) => ({
  version: plan.adopted_version,
  draft: draft?.id,
  revision: draft?.revision,
});

const draftQuery = (draft: number | null) => (draft === null ? {} : { draft });

export const sessionQuery = queryOptions({
  queryKey: ["session"],
  queryFn: async () => rememberToken(await data(api.GET("/api/v1/session"))),
  staleTime: Infinity,
});

export async function signIn(token: string) {
  return rememberToken(await data(api.POST("/api/v1/session", { body: { token } })));
}

export async function signOut() {
  return rememberToken(await data(api.DELETE("/api/v1/session")));
}

export const plansQuery = queryOptions({
  queryKey: ["plans"],
  queryFn: () => data(api.GET("/api/v1/plans")),
});

/** The plan as adopted: the only place that knows which drafts are open. */
export const planQuery = (plan: number, draft: number | null) =>
  queryOptions({
    queryKey: ["plan", plan, { draft }],
    queryFn: () =>
      data(
        api.GET("/api/v1/plans/{plan_id}", {
          params: { path: { plan_id: plan }, query: draftQuery(draft) },
        }),
      ),
  });

export const weekQuery = (plan: PlanState, draft: Draft | null, day: string) =>
  queryOptions({
    queryKey: ["plan", plan.id, "week", stateOf(plan, draft), day],
    queryFn: ({ signal }) =>
      data(
        api.GET("/api/v1/plans/{plan_id}/weeks/{day}", {
          params: { path: { plan_id: plan.id, day }, query: draftQuery(draft?.id ?? null) },
          signal,
        }),
      ),
    staleTime: Infinity,
  });

export type LaneBy = "job" | "machine" | "host" | "tier" | "proxy" | "repository" | "link";

/** Who is busy when in a night or its week. */
export const lanesQuery = (
  plan: PlanState,
  draft: Draft | null,
  night: string,
  by: LaneBy,
  span: "night" | "week",
  operations: readonly Operation[],
) =>
  queryOptions({
    queryKey: ["plan", plan.id, "lanes", stateOf(plan, draft), night, by, span, operations],
    queryFn: ({ signal }) =>
      data(
        api.POST("/api/v1/plans/{plan_id}/lanes", {
          params: { path: { plan_id: plan.id } },
          body: { draft: draft?.id ?? null, night, by, span, operations: [...operations] },
          signal,
        }),
      ),
    staleTime: Infinity,
  });

export const nightQuery = (
  plan: PlanState,
  draft: Draft | null,
  day: string,
  loads: readonly string[] | null,
) =>
  queryOptions({
    queryKey: ["plan", plan.id, "night", stateOf(plan, draft), day, loads],
    queryFn: ({ signal }) =>
      data(
        api.GET("/api/v1/plans/{plan_id}/nights/{day}", {
          params: {
            path: { plan_id: plan.id, day },
            query: { ...draftQuery(draft?.id ?? null), ...(loads ? { load: [...loads] } : {}) },
          },
          signal,
        }),
      ),
    staleTime: Infinity,
  });

export const runQuery = (
  plan: PlanState,
  draft: Draft | null,
  day: string,
  job: string,
  occurrence: string,
) =>
  queryOptions({
    queryKey: ["plan", plan.id, "run", stateOf(plan, draft), day, job, occurrence],
    queryFn: ({ signal }) =>
      data(
        api.GET("/api/v1/plans/{plan_id}/nights/{day}/runs/{job}/{occurrence}", {
          params: {
            path: { plan_id: plan.id, day, job, occurrence },
            query: draftQuery(draft?.id ?? null),
          },
          signal,
        }),
      ),
    staleTime: Infinity,
  });

export const findingsQuery = (plan: PlanState, draft: Draft | null, day: string) =>
  queryOptions({
    queryKey: ["plan", plan.id, "findings", stateOf(plan, draft), day],
    queryFn: ({ signal }) =>
      data(
        api.GET("/api/v1/plans/{plan_id}/findings/{day}", {
          params: { path: { plan_id: plan.id, day }, query: draftQuery(draft?.id ?? null) },
          signal,
        }),
      ),
    staleTime: Infinity,
  });

export const helpQuery = (plan: PlanState, draft: Draft | null, day: string, key: string) =>
  queryOptions({
    queryKey: ["plan", plan.id, "help", stateOf(plan, draft), day, key],
    queryFn: ({ signal }) =>
      data(
        api.GET("/api/v1/plans/{plan_id}/findings/{day}/help", {
          params: {
            path: { plan_id: plan.id, day },
            query: { ...draftQuery(draft?.id ?? null), key },
          },
          signal,
        }),
      ),
    staleTime: Infinity,
  });

export const preview = (plan: number, body: PreviewRequest, signal: AbortSignal) =>
  data(
    api.POST("/api/v1/plans/{plan_id}/preview", {
      params: { path: { plan_id: plan } },
      body,
      signal,
    }),
  );

/**
 * Reads everything of a plan anew. The list of drafts comes first: what belongs to a draft that is
 * no more must not be asked for.
 */
export async function refreshPlan(client: QueryClient, plan: number): Promise<void> {
  await client.refetchQueries({ queryKey: planQuery(plan, null).queryKey, exact: true });
  await new Promise((drawn) => setTimeout(drawn, 50));
  await client.invalidateQueries({ queryKey: ["plan", plan], refetchType: "active" });
}

export const startDraft = (plan: number, name: string) =>
  data(
    api.POST("/api/v1/plans/{plan_id}/drafts", {
      params: { path: { plan_id: plan } },
      body: { name },
    }),
  );

/** The revision that an edit is based on. */
export const ifMatch = (draft: Draft) => ({ "If-Match": `"${draft.revision}"` });

/** Save operations; without the sizes of their acts, one undo takes all of them back. */
export const saveOperations = (draft: Draft, operations: Operation[], acts?: number[]) =>
  data(
    api.POST("/api/v1/drafts/{draft_id}/operations", {
      params: { path: { draft_id: draft.id }, header: ifMatch(draft) },
      body: { operations, acts: acts ?? null },
    }),
  );

export const stepBack = (draft: Draft, step: "undo" | "redo") =>
  data(
    api.POST(`/api/v1/drafts/{draft_id}/${step}`, {
      params: { path: { draft_id: draft.id }, header: ifMatch(draft) },
    }),
  );

export const adoptDraft = (draft: Draft, note: string, despite = false) =>
  data(
    api.POST("/api/v1/drafts/{draft_id}/adopt", {
      params: { path: { draft_id: draft.id }, header: ifMatch(draft) },
      body: { note, despite },
    }),
  );

/** Begin a plan: empty, from a file, or with the sample. */
export const beginPlan = (body: NewPlan) => data(api.POST("/api/v1/plans", { body }));
