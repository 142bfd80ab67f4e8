import { queryOptions } from "@tanstack/react-query";
import { api, data, done, type Draft } from "./client";
import { ifMatch, type PlanState, stateOf } from "./planQueries";
import type { components } from "./schema";

type Schemas = components["schemas"];
export type Comparison = Schemas["CompareSchema"];
export type Adoption = Schemas["AdoptionSchema"];
export type Validation = Schemas["ValidationSchema"];
export type JobProblem = Schemas["JobProblemSchema"];

type Shown = { id: number; revision: number } | null;

export const validationQuery = (plan: PlanState, draft: Shown, day: string) =>
  queryOptions({
    queryKey: ["plan", plan.id, "validation", stateOf(plan, draft), day],
    queryFn: ({ signal }) =>
      data(
        api.GET("/api/v1/plans/{plan_id}/validation/{day}", {
          params: { path: { plan_id: plan.id, day }, query: draft ? { draft: draft.id } : {} },
          signal,
        }),
      ),
    staleTime: Infinity,
  });

export const comparisonQuery = (
  plan: { id: number; adopted_version: number },
  day: string,
  one: string,
  other: string,
  revision: number | null,
) =>
  queryOptions({
    // Not among what is read anew after an edit: a side may be a draft that is no more.
    queryKey: ["compare", plan.id, plan.adopted_version, day, one, other, revision],
    queryFn: ({ signal }) =>
      data(
        api.GET("/api/v1/plans/{plan_id}/compare/{day}", {
          params: { path: { plan_id: plan.id, day }, query: { one, other } },
          signal,
        }),
      ),
    staleTime: 60_000,
  });

export const adoptionsQuery = (plan: number) =>
  queryOptions({
    queryKey: ["plan", plan, "adoptions"],
    queryFn: () =>
      data(api.GET("/api/v1/plans/{plan_id}/adoptions", { params: { path: { plan_id: plan } } })),
  });

/** Let all who may plan change a draft, or only its owner. */
export const shareDraft = (draft: Draft, shared: boolean) =>
  data(
    api.PUT("/api/v1/drafts/{draft_id}/sharing", {
      params: { path: { draft_id: draft.id } },
      body: { shared },
    }),
  );

export const goBack = (plan: number, adoption: number, note: string) =>
  data(
    api.POST("/api/v1/plans/{plan_id}/adoptions/{adoption_id}/back", {
      params: { path: { plan_id: plan, adoption_id: adoption } },
      body: { note },
    }),
  );

export const renameDraft = (draft: Draft, name: string) =>
  data(
    api.PATCH("/api/v1/drafts/{draft_id}", {
      params: { path: { draft_id: draft.id }, header: ifMatch(draft) },
      body: { name },
    }),
  );

export const copyDraft = (draft: Draft, name: string) =>
  data(
    api.POST("/api/v1/drafts/{draft_id}/copies", {
      params: { path: { draft_id: draft.id } },
      body: { name },
    }),
  );

export async function discardDraft(draft: Draft): Promise<void> {
  await done(
    api.DELETE("/api/v1/drafts/{draft_id}", {
      params: { path: { draft_id: draft.id }, header: ifMatch(draft) },
    }),
  );
}

export const carryOver = (draft: Draft) =>
  data(
    api.POST("/api/v1/drafts/{draft_id}/carry-over", {
      params: { path: { draft_id: draft.id }, header: ifMatch(draft) },
    }),
  );
