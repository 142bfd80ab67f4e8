import { queryOptions, useMutation, useQueryClient } from "@tanstack/react-query";
import { api, data, type Draft, type Operation, type Plan } from "./client";
import type { components } from "./schema";
import { addDays, mondayOf } from "../time/time";
import { stateOf } from "./planQueries";

type Schemas = components["schemas"];
export type Computation = Schemas["ComputationSchema"];
export type RuleTold = Schemas["RuleToldSchema"];
export type BalanceRequest = Schemas["BalanceRequestSchema"];
export type SweepRequest = Schemas["SweepRequestSchema"];
export type Stood = Schemas["StoodSchema"];
export type ConfidenceRequest = Schemas["ConfidenceRequestSchema"];
export type ProposedMove = Schemas["MoveSchema"];
export type Bought = Schemas["BoughtSchema"];
export type PurchaseBesideMoves = Schemas["PurchaseBesideMovesSchema"];
export type Rung = Schemas["RungSchema"];
export type NightTold = Schemas["NightToldSchema"];
export type Score = Schemas["ScoreSchema"];
export type Bound = Schemas["BoundSchema"];
export type Scenario = Schemas["ScenarioSchema"];
export type Sure = Schemas["NightConfidenceSchema"];
export type Happening = Record<string, string | number | null> & { happens: string };
export type Kind = Computation["kind"];

const POLLED_EVERY_MS = 500;

const listKey = (plan: number, kind: Kind) => ["plan", plan, "computations", kind];

/** The newest computations of a plan; asked again while one of them runs, so a reload finds it. */
export const computationsQuery = (plan: number, kind: Kind) =>
  queryOptions({
    queryKey: listKey(plan, kind),
    queryFn: () =>
      data(
        api.GET("/api/v1/plans/{plan_id}/computations", {
          params: { path: { plan_id: plan }, query: { kind } },
        }),
      ),
    refetchInterval: (query) =>
      query.state.data?.some((each) => each.state === "running") ? POLLED_EVERY_MS : false,
  });

/** Begin, stop, cancel or resume a computation; the list knows of it at once. */
export function useComputing(plan: number, kind: Kind) {
  const client = useQueryClient();
  const known = (now: Computation) =>
    client.setQueryData<Computation[]>(listKey(plan, kind), (before = []) =>
      [now, ...before.filter((each) => each.id !== now.id)].sort((a, b) => b.id - a.id),
    );
  const on = { params: { path: { plan_id: plan } } };
  const step = (id: number) => ({ params: { path: { computation_id: id } } });
  return {
    known,
    balance: useMutation({
      mutationFn: (body: BalanceRequest) =>
        data(api.POST("/api/v1/plans/{plan_id}/balances", { ...on, body })),
      onSuccess: known,
    }),
    confidence: useMutation({
      mutationFn: (body: ConfidenceRequest) =>
        data(api.POST("/api/v1/plans/{plan_id}/confidences", { ...on, body })),
      onSuccess: known,
    }),
    sweep: useMutation({
      mutationFn: (body: SweepRequest) =>
        data(api.POST("/api/v1/plans/{plan_id}/sweeps", { ...on, body })),
      onSuccess: known,
    }),
    stop: useMutation({
      mutationFn: (id: number) =>
        data(api.POST("/api/v1/computations/{computation_id}/stop", step(id))),
      onSuccess: known,
    }),
    cancel: useMutation({
      mutationFn: (id: number) =>
        data(api.POST("/api/v1/computations/{computation_id}/cancel", step(id))),
      onSuccess: known,
    }),
    resume: useMutation({
      mutationFn: (id: number) =>
        data(api.POST("/api/v1/computations/{computation_id}/resume", step(id))),
      onSuccess: known,
    }),
  };
}

export const scenario = (
  plan: number,
  draft: Draft | null,
  day: string,
  happens: Happening[],
  signal?: AbortSignal,
) =>
  data(
    api.POST("/api/v1/plans/{plan_id}/what-if", {
      params: { path: { plan_id: plan } },
      body: { draft: draft?.id ?? null, day, happens },
      ...(signal && { signal }),
    }),
  );

/** The rules of the house that operations would break where the plan does not. */
export const brokenRulesQuery = (
  plan: Plan,
  draft: { id: number; revision: number } | null,
  asked: Pick<Schemas["RulesAskedSchema"], "day" | "weeks" | "rules">,
  operations: readonly Operation[],
) =>
  queryOptions({
    queryKey: [
      "plan",
      plan.id,
      "broken rules",
      stateOf(plan, draft),
      JSON.stringify([asked, operations]),
    ],
    queryFn: ({ signal }) =>
      data(
        api.POST("/api/v1/plans/{plan_id}/broken-rules", {
          params: { path: { plan_id: plan.id } },
          body: { draft: draft?.id ?? null, ...asked, operations: [...operations] },
          signal,
        }),
      ),
  });

/** Happenings in a form in which the same ones are the same text. */
const said = (happens: readonly Happening[]) =>
  JSON.stringify(happens.map((each) => Object.entries(each).sort(([a], [b]) => (a < b ? -1 : 1))));

/**
 * What was computed last for a week of the plan in hand, as it is now, and for what happens in it:
 * an answer to another question is none to this one.
 */
export function newestFor(
  found: readonly Computation[] | undefined,
  draft: Draft | null,
  date: string,
  happens: readonly Happening[] = [],
): Computation | undefined {
  const monday = mondayOf(date);
  return found?.find((each) => {
    const asked = each.asked as {
      draft?: number | null;
      day?: string;
      weeks?: number;
      happens?: Happening[];
    };
    if (said(asked.happens ?? []) !== said(happens)) return false;
    const first = mondayOf(asked.day ?? date);
    const last = addDays(first, 7 * ((asked.weeks ?? 1) - 1));
    return (asked.draft ?? null) === (draft?.id ?? null) && first <= monday && monday <= last;
  });
}

/**
 * Whether a plan has been changed since; told from what is in hand, which is newer than any
 * answer.
 */
export function isStale(found: Computation, plan: Plan): boolean {
  const draft = plan.draft;
  const now = draft
    ? `version ${draft.base_version}, draft ${draft.id}.${draft.revision}`
    : `version ${plan.adopted_version}`;
  return found.stale || (found.asked as { stands_on?: string }).stands_on !== now;
}

/** Moves in the order in which they are applied: not all of them commute. */
export const operationsOf = (moves: readonly ProposedMove[]): Operation[] =>
  [...moves]
    .sort((a, b) => (a.turn ?? 0) - (b.turn ?? 0))
    .map((move) => move.operation as Operation);
