import { keepPreviousData, queryOptions } from "@tanstack/react-query";
import { api, data, type Operation } from "./client";
import { asCurves } from "./curvesFirst";
import { type PlanState, stateOf } from "./planQueries";
import type { components } from "./schema";

type Schemas = components["schemas"];
export type Runway = Schemas["RunwaySchema"];
export type RepositoryLife = Schemas["RepositoryLifeSchema"];
export type VolumeLife = Schemas["VolumeLifeSchema"];
export type AssumptionTold = Schemas["AssumptionToldSchema"];
export type Below = Schemas["BelowSchema"];
export type Candidate = Schemas["CandidateSchema"];
export type Tiers = Schemas["TiersSchema"];
export type Occupancy = Schemas["OccupancySchema"];
export type Occupied = Schemas["OccupiedSchema"];
export type LearnedGrowth = Schemas["LearnedGrowthSchema"];
export type RoleGrowth = Schemas["RoleGrowthSchema"];
export type MonthAhead = Schemas["MonthAheadSchema"];
export type WindowAhead = Schemas["WindowAheadSchema"];
export type PurchaseItem = Schemas["PurchaseItemSchema"];
export type Unmet = Schemas["UnmetSchema"];

type Shown = { id: number; revision: number } | null;

/** How the months ahead are meant. */
export interface Ahead {
  months: number;
  feared_growth: number | null;
  provisioned_grows: boolean;
}

const on = (plan: number) => ({ params: { path: { plan_id: plan } } });
/** The body of what is asked about the months ahead. */
export const asked = (draft: Shown, ahead: Ahead, operations: readonly Operation[]) => ({
  draft: draft?.id ?? null,
  ...ahead,
  operations: operations as Operation[],
});
const keyOf = (
  what: string,
  plan: PlanState,
  draft: Shown,
  ahead: Ahead,
  operations: readonly Operation[],
) => ["plan", plan.id, what, stateOf(plan, draft), ahead, JSON.stringify(operations)];

/** The space of every repository over the months, as unsaved operations would make it. */
export const runwayQuery = (
  plan: PlanState,
  draft: Shown,
  ahead: Ahead,
  feared: number | null,
  operations: readonly Operation[],
) =>
  queryOptions({
    queryKey: [...keyOf("runway", plan, draft, ahead, operations), feared],
    queryFn: ({ signal }) =>
      asCurves(
        data(
          api.POST("/api/v1/plans/{plan_id}/runway", {
            ...on(plan.id),
            body: { ...asked(draft, ahead, operations), feared },
            signal,
          }),
        ),
      ),
    staleTime: Infinity,
    retry: false,
    placeholderData: keepPreviousData,
  });

export const belowQuery = (
  plan: PlanState,
  draft: Shown,
  ahead: Ahead,
  repository: string,
  part: number,
) =>
  queryOptions({
    queryKey: [...keyOf("below", plan, draft, ahead, []), repository, part],
    queryFn: ({ signal }) =>
      data(
        api.POST("/api/v1/plans/{plan_id}/runway/below", {
          ...on(plan.id),
          body: { ...asked(draft, ahead, []), repository, part },
          signal,
        }),
      ),
    staleTime: Infinity,
    retry: false,
  });

export const tiersQuery = (plan: PlanState, draft: Shown, ahead: Ahead, repository: string) =>
  queryOptions({
    queryKey: [...keyOf("tiers", plan, draft, ahead, []), repository],
    queryFn: ({ signal }) =>
      data(
        api.POST("/api/v1/plans/{plan_id}/runway/tiers/{repository}", {
          params: { path: { plan_id: plan.id, repository } },
          body: asked(draft, ahead, []),
          signal,
        }),
      ),
    staleTime: Infinity,
  });

export type Grouping = NonNullable<Schemas["OccupancyAskedSchema"]["by"]>;

export const occupancyQuery = (
  plan: PlanState,
  draft: Shown,
  ahead: Ahead,
  by: Grouping,
  day: string | null,
) =>
  queryOptions({
    queryKey: [...keyOf("occupancy", plan, draft, ahead, []), by, day],
    queryFn: ({ signal }) =>
      data(
        api.POST("/api/v1/plans/{plan_id}/runway/occupancy", {
          ...on(plan.id),
          body: { ...asked(draft, ahead, []), by, day },
          signal,
        }),
      ),
    staleTime: Infinity,
    retry: false,
    placeholderData: keepPreviousData,
  });

/** The address of the occupancy as a file. */
export function occupancyFile(
  plan: number,
  draft: Shown,
  ahead: Ahead,
  by: Grouping,
  day: string | null,
  ending: "csv" | "xlsx",
  overMonths: boolean,
): string {
  const query = new URLSearchParams({ by, months: String(ahead.months) });
  if (draft) query.set("draft", String(draft.id));
  if (ahead.feared_growth !== null) query.set("feared_growth", String(ahead.feared_growth));
  if (!ahead.provisioned_grows) query.set("provisioned_grows", "false");
  if (overMonths) query.set("over_months", "true");
  else if (day) query.set("day", day);
  return `/api/v1/plans/${plan}/runway/occupancy.${ending}?${query}`;
}

export const purchaseFile = (plan: number, computation: number, ending: "csv" | "xlsx") =>
  `/api/v1/plans/${plan}/runway/purchase.${ending}?computation=${computation}`;

export const growthQuery = (plan: PlanState) =>
  queryOptions({
    queryKey: ["plan", plan.id, "growth", plan.adopted_version],
    queryFn: ({ signal }) =>
      data(api.GET("/api/v1/plans/{plan_id}/runway/growth", { ...on(plan.id), signal })),
    staleTime: 60_000,
  });

export const beginNightsAhead = (plan: number, draft: Shown, ahead: Ahead) =>
  data(
    api.POST("/api/v1/plans/{plan_id}/nights-ahead", {
      ...on(plan),
      body: { draft: draft?.id ?? null, ...ahead },
    }),
  );

export const beginPurchase = (plan: number, draft: Shown, ahead: Ahead, reserve: number) =>
  data(
    api.POST("/api/v1/plans/{plan_id}/purchases", {
      ...on(plan),
      body: { draft: draft?.id ?? null, ...ahead, reserve },
    }),
  );
