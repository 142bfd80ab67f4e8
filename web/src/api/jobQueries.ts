import { queryOptions } from "@tanstack/react-query";
import { api, data, done, type Operation } from "./client";
import { afterCurves } from "./curvesFirst";
import type { components } from "./schema";
import { type PlanState, stateOf } from "./planQueries";

type Schemas = components["schemas"];
export type JobRow = Schemas["JobRowSchema"];
export type Look = Schemas["LookSchema"];
export type Clause = Schemas["ClauseSchema"];
export type JobNight = Schemas["JobNightSchema"];
export type ScheduleLook = Schemas["ScheduleLookSchema"];
export type Selected = Schemas["SelectedSchema"];
export type Near = Schemas["NearSchema"];
export type Choices = Schemas["ChoicesSchema"];
export type Way = Schemas["WaySchema"];
export type PointAhead = Schemas["PointAheadSchema"];
export type SpaceAhead = Schemas["SpaceAheadSchema"];
export type Start = Schemas["RoomStartSchema"];
export type Group = Schemas["JobGroupSchema"];
export type Template = Schemas["TemplateSchema"];
export type Problem = Schemas["JobProblemSchema"];
export type RunKind = "full" | "incremental" | "differential";

type Shown = { id: number; revision: number } | null;
const of = (draft: Shown) => (draft ? { draft: draft.id } : {});
const onPlan = (plan: number) => ({ params: { path: { plan_id: plan } } });

export interface Asked {
  draft: number | null;
  operations: Operation[];
}

export const choicesQuery = (plan: PlanState, draft: Shown) =>
  queryOptions({
    queryKey: ["plan", plan.id, "choices", stateOf(plan, draft)],
    queryFn: () =>
      data(
        api.GET("/api/v1/plans/{plan_id}/jobs/choices", {
          params: { path: { plan_id: plan.id }, query: of(draft) },
        }),
      ),
    staleTime: Infinity,
  });

export const jobsQuery = (
  plan: PlanState,
  draft: Shown,
  q: string,
  sort: "plan" | "name" | "machines" | "size" | "priority",
) =>
  queryOptions({
    queryKey: ["plan", plan.id, "jobs", stateOf(plan, draft), q, sort],
    queryFn: ({ signal }) =>
      data(
        api.GET("/api/v1/plans/{plan_id}/jobs", {
          params: { path: { plan_id: plan.id }, query: { ...of(draft), q, sort } },
          signal,
        }),
      ),
    staleTime: Infinity,
  });

export const jobWeeksQuery = (plan: PlanState, draft: Shown, day: string) =>
  queryOptions({
    queryKey: ["plan", plan.id, "jobs", "week", stateOf(plan, draft), day],
    queryFn: ({ signal }) =>
      data(
        api.GET("/api/v1/plans/{plan_id}/jobs/week/{day}", {
          params: { path: { plan_id: plan.id, day }, query: of(draft) },
          signal,
        }),
      ),
    staleTime: Infinity,
  });

/** The job as unsaved operations would make it, with all that follows from it. */
export const lookQuery = (
  plan: PlanState,
  draft: Shown,
  job: string,
  night: string,
  operations: Operation[],
) =>
  queryOptions({
    queryKey: [
      "plan",
      plan.id,
      "look",
      stateOf(plan, draft),
      job,
      night,
      JSON.stringify(operations),
    ],
    queryFn: async ({ signal }) => {
      await afterCurves();
      return data(
        api.POST("/api/v1/plans/{plan_id}/jobs/look", {
          ...onPlan(plan.id),
          body: { draft: draft?.id ?? null, job, night, operations },
          signal,
        }),
      );
    },
    staleTime: Infinity,
    retry: false,
  });

export const say = (
  plan: number,
  asked: Asked & { text: string; kind: RunKind; day: string; time_zone: string | null },
  signal: AbortSignal,
) => data(api.POST("/api/v1/plans/{plan_id}/jobs/say", { ...onPlan(plan), body: asked, signal }));

export const begin = (
  plan: number,
  asked: Asked & {
    name: string;
    day: string;
    machines: string[];
    like: string | null;
    template: number | null;
  },
) => data(api.POST("/api/v1/plans/{plan_id}/jobs/begin", { ...onPlan(plan), body: asked }));

export type SaidOfLine = NonNullable<TimetableAsked["said"]>[number];
type TimetableAsked = Schemas["TimetableAskedSchema"];

export const timetableQuery = (
  plan: PlanState,
  draft: Shown,
  asked: Pick<TimetableAsked, "text" | "day" | "machine" | "with_user"> & { said: SaidOfLine[] },
) =>
  queryOptions({
    queryKey: ["plan", plan.id, "timetable", stateOf(plan, draft), JSON.stringify(asked)],
    queryFn: ({ signal }) =>
      data(
        api.POST("/api/v1/plans/{plan_id}/jobs/timetable", {
          ...onPlan(plan.id),
          body: { draft: draft?.id ?? null, operations: [], time_zone: "", ...asked },
          signal,
        }),
      ),
    retry: false,
  });

const question = (
  name: string,
  plan: PlanState,
  draft: Shown,
  job: string,
  operations: Operation[],
  ...more: unknown[]
) =>
  ["plan", plan.id, name, stateOf(plan, draft), job, JSON.stringify(operations), ...more] as const;
const body = (draft: Shown, job: string, operations: Operation[]) => ({
  draft: draft?.id ?? null,
  job,
  operations,
});

export const tradeoffsQuery = (
  plan: PlanState,
  draft: Shown,
  job: string,
  operations: Operation[],
) =>
  queryOptions({
    queryKey: question("tradeoffs", plan, draft, job, operations),
    queryFn: ({ signal }) =>
      data(
        api.POST("/api/v1/plans/{plan_id}/jobs/tradeoffs", {
          ...onPlan(plan.id),
          body: body(draft, job, operations),
          signal,
        }),
      ),
    staleTime: Infinity,
  });

export const costsQuery = (plan: PlanState, draft: Shown, job: string, operations: Operation[]) =>
  queryOptions({
    queryKey: question("costs", plan, draft, job, operations),
    queryFn: ({ signal }) =>
      data(
        api.POST("/api/v1/plans/{plan_id}/jobs/costs", {
          ...onPlan(plan.id),
          body: body(draft, job, operations),
          signal,
        }),
      ),
    staleTime: Infinity,
  });

export const pointsQuery = (
  plan: PlanState,
  draft: Shown,
  job: string,
  operations: Operation[],
  day: string,
  machine: string | null,
) =>
  queryOptions({
    queryKey: question("points", plan, draft, job, operations, day, machine),
    queryFn: ({ signal }) =>
      data(
        api.POST("/api/v1/plans/{plan_id}/jobs/points", {
          ...onPlan(plan.id),
          body: { ...body(draft, job, operations), day, machine },
          signal,
        }),
      ),
    staleTime: Infinity,
    retry: false,
  });

export const askRoom = (
  plan: number,
  asked: Asked & { job: string; kind: RunKind; night: string },
  signal: AbortSignal,
) => data(api.POST("/api/v1/plans/{plan_id}/jobs/room", { ...onPlan(plan), body: asked, signal }));

/** A job that nobody has made yet; `gib` are the used GiB of all its machines together. */
export interface Imagined {
  gib: number;
  machines: number;
  daily_change: number;
  site: string;
  repository: string;
  kind: RunKind;
  window: string | null;
}

export const askImagined = (
  plan: number,
  asked: Asked & Imagined & { night: string },
  signal: AbortSignal,
) =>
  data(api.POST("/api/v1/plans/{plan_id}/jobs/imagined", { ...onPlan(plan), body: asked, signal }));

export const askSplit = (plan: number, asked: Asked & { job: string; groups: number }) =>
  data(api.POST("/api/v1/plans/{plan_id}/jobs/split", { ...onPlan(plan), body: asked }));

export const templatesQuery = (plan: number) =>
  queryOptions({
    queryKey: ["plan", plan, "templates"],
    queryFn: () => data(api.GET("/api/v1/plans/{plan_id}/templates", onPlan(plan))),
  });

export const saveTemplate = (plan: number, name: string, value: Record<string, unknown>) =>
  data(api.POST("/api/v1/plans/{plan_id}/templates", { ...onPlan(plan), body: { name, value } }));

export const removeTemplate = (plan: number, template: number) =>
  done(
    api.DELETE("/api/v1/plans/{plan_id}/templates/{template_id}", {
      params: { path: { plan_id: plan, template_id: template } },
    }),
  );
