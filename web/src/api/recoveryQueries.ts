import { keepPreviousData, queryOptions } from "@tanstack/react-query";
import { api, type Draft, data, done } from "./client";
import { type PlanState, stateOf } from "./planQueries";
import type { components } from "./schema";

type Schemas = components["schemas"];
export type Loss = Schemas["LossSchema"];
export type Way = Schemas["RecoveryWaySchema"];
export type Recovery = Schemas["RecoverySchema"];
export type ComesBack = Schemas["ComesBackSchema"];
export type Tier = Schemas["TierSchema"];
export type Proposal = Schemas["ProposalSchema"];
export type Subject = Schemas["LossSubjectSchema"];
export type SavedRecovery = Schemas["SavedRecoverySchema"];
export type MachinePoint = Schemas["MachinePointSchema"];
export type Promised = Schemas["PromisedMachineSchema"];
export type OneRestore = Schemas["OneRestoreSchema"];
export type InANight = Schemas["InANightSchema"];

type Shown = Draft | null;
const of = (plan: number) => ({ params: { path: { plan_id: plan } } });
const query = (draft: Shown) => (draft ? { draft: draft.id } : {});

export const subjectsQuery = (plan: PlanState, draft: Shown) =>
  queryOptions({
    queryKey: ["plan", plan.id, "what can be lost", stateOf(plan, draft)],
    queryFn: ({ signal }) =>
      data(
        api.GET("/api/v1/plans/{plan_id}/recoveries/subjects", {
          params: { path: { plan_id: plan.id }, query: query(draft) },
          signal,
        }),
      ),
    staleTime: Infinity,
  });

/** What comes of a loss in one way; the answer before stays until the next is there. */
export const recoveryQuery = (plan: PlanState, draft: Shown, loss: Loss, way: Way) =>
  queryOptions({
    queryKey: ["plan", plan.id, "recovery", stateOf(plan, draft), loss, way],
    queryFn: ({ signal }) =>
      data(
        api.POST("/api/v1/plans/{plan_id}/recoveries/simulated", {
          ...of(plan.id),
          body: { draft: draft?.id ?? null, loss, way },
          signal,
        }),
      ),
    placeholderData: keepPreviousData,
    staleTime: Infinity,
    gcTime: 60_000,
    retry: false,
  });

export const propose = (plan: number, draft: Shown, loss: Loss, way: Way) =>
  data(
    api.POST("/api/v1/plans/{plan_id}/recoveries/proposals", {
      ...of(plan),
      body: { draft: draft?.id ?? null, loss, way },
    }),
  );

export type SecondCopies = Schemas["SecondCopiesSchema"];

/** Copies that the loss would have left: what they save, what they cost the week. */
export const secondCopies = (plan: number, draft: Shown, loss: Loss, way: Way) =>
  data(
    api.POST("/api/v1/plans/{plan_id}/recoveries/copies", {
      ...of(plan),
      body: { draft: draft?.id ?? null, loss, way },
    }),
  );

export type Rehearsed = Schemas["RehearsedSchema"];

/** A recovery carried out in a simulated world; `at`: the instant to look at, none: its end. */
export const rehearsedQuery = (
  plan: PlanState,
  draft: Shown,
  asked: { loss: Loss; way: Way; seed: number; at: string | null },
) =>
  queryOptions({
    queryKey: ["plan", plan.id, "recovery rehearsed", stateOf(plan, draft), asked],
    queryFn: ({ signal }) =>
      data(
        api.POST("/api/v1/plans/{plan_id}/recoveries/rehearsed", {
          ...of(plan.id),
          body: { draft: draft?.id ?? null, ...asked },
          signal,
        }),
      ),
    placeholderData: keepPreviousData,
    staleTime: Infinity,
    gcTime: 60_000,
    retry: false,
  });

export const savedKey = (plan: number) => ["plan", plan, "recoveries"];

export const savedQuery = (plan: number) =>
  queryOptions({
    queryKey: savedKey(plan),
    queryFn: ({ signal }) =>
      data(api.GET("/api/v1/plans/{plan_id}/recoveries", { ...of(plan), signal })),
  });

export const keepRecovery = (plan: number, name: string, loss: Loss, way: Way) =>
  data(api.POST("/api/v1/plans/{plan_id}/recoveries", { ...of(plan), body: { name, loss, way } }));

export const forgetRecovery = (plan: number, id: number) =>
  done(
    api.DELETE("/api/v1/plans/{plan_id}/recoveries/{recovery_id}", {
      params: { path: { plan_id: plan, recovery_id: id } },
    }),
  );

export const pointsQuery = (
  plan: PlanState,
  draft: Shown,
  machine: string,
  at: string,
  host: string | null,
) =>
  queryOptions({
    queryKey: ["plan", plan.id, "points", stateOf(plan, draft), machine, at, host],
    queryFn: ({ signal }) =>
      data(
        api.GET("/api/v1/plans/{plan_id}/machines/{machine_id}/points", {
          params: {
            path: { plan_id: plan.id, machine_id: machine },
            query: { ...query(draft), at, ...(host && { to_host: host }) },
          },
          signal,
        }),
      ),
    placeholderData: keepPreviousData,
    retry: false,
  });

export const restoreInANight = (plan: number, machine: string, asked: OneRestore) =>
  data(
    api.POST("/api/v1/plans/{plan_id}/machines/{machine_id}/restore-in-a-night", {
      params: { path: { plan_id: plan, machine_id: machine } },
      body: asked,
    }),
  );

export const promisesQuery = (plan: PlanState, draft: Shown, day: string) =>
  queryOptions({
    queryKey: ["plan", plan.id, "promises", stateOf(plan, draft), day],
    queryFn: ({ signal }) =>
      data(
        api.GET("/api/v1/plans/{plan_id}/promises/{day}", {
          params: { path: { plan_id: plan.id, day }, query: query(draft) },
          signal,
        }),
      ),
    placeholderData: keepPreviousData,
    staleTime: Infinity,
  });

// --- restore tests and checks of points ---

export type RestoreTests = Schemas["RestoreTestsSchema"];
export type TestDay = Schemas["TestDaySchema"];
export type PlannedTest = Schemas["PlannedTestSchema"];
export type Rota = Schemas["RotaSchema"];
export type PointCheck = Schemas["PointCheckSchema"];
export type NewCheck = Schemas["NewCheckSchema"];

const testsKey = (plan: number) => ["plan", plan, "restore tests"];

/** What has another answer once a point was checked or a test ordered. */
export const afterChecksKey = (plan: number) => ["plan", plan];

export const testsQuery = (plan: number) =>
  queryOptions({
    queryKey: testsKey(plan),
    queryFn: ({ signal }) =>
      data(api.GET("/api/v1/plans/{plan_id}/restore-tests", { ...of(plan), signal })),
  });

export const saveRota = (plan: number, rota: Rota) =>
  data(api.PUT("/api/v1/plans/{plan_id}/restore-tests/rota", { ...of(plan), body: rota }));

export const orderTests = (plan: number, machines: string[]) =>
  data(
    api.POST("/api/v1/plans/{plan_id}/restore-tests/orders", { ...of(plan), body: { machines } }),
  );

export const checkPoint = (plan: number, check: NewCheck) =>
  data(api.POST("/api/v1/plans/{plan_id}/point-checks", { ...of(plan), body: check }));

export const cleanedUp = (plan: number, machine: string) =>
  done(
    api.POST("/api/v1/plans/{plan_id}/left-overs/cleaned", {
      ...of(plan),
      body: { machine, what: "mount" },
    }),
  );
