import { queryOptions } from "@tanstack/react-query";
import type { components } from "./schema";
import { api, data, type Operation } from "./client";
import { type PlanState, stateOf } from "./planQueries";

type Schemas = components["schemas"];
export type PathsAnswer = Schemas["PathsSchema"];
export type Item = Schemas["ItemSchema"];
export type Flow = Schemas["FlowSchema"];
export type NightLoads = Schemas["NightLoadsSchema"];
export type ItemLoad = Schemas["LoadOfItemSchema"];
export type WeekOfLoad = Schemas["WeekOfLoadSchema"];
export type Reach = Schemas["ReachSchema"];
export type ReachReason = Schemas["ReachReasonSchema"];
export type PlanWindow = Schemas["WindowSchema"];
export type Windows = Schemas["WindowsSchema"];
export type PlanCalendar = Schemas["CalendarSchema"];
export type Sizing = Schemas["SizingSchema"];
export type Advice = Schemas["AdviceSchema"];
export type NightState = Schemas["StateSchema"];
export type Ics = Schemas["IcsSchema"];

/** The lists of the plan file whose entries are edited here. */
export type List =
  "sites" | "links" | "hosts" | "datastores" | "proxies" | "repositories" | "windows" | "calendars";
/** The lists to which a planner adds entries one by one. */
export const ADDED: readonly List[] = [
  "proxies",
  "repositories",
  "links",
  "hosts",
  "datastores",
  "sites",
];

export const NOUNS: Record<List, string> = {
  sites: "site",
  links: "link",
  hosts: "host",
  datastores: "datastore",
  proxies: "proxy",
  repositories: "repository",
  windows: "window",
  calendars: "calendar",
};

type Shown = { id: number; revision: number } | null;
const of = (draft: Shown) => (draft ? { draft: draft.id } : {});

export const pathsQuery = (plan: PlanState, draft: Shown, day: string) =>
  queryOptions({
    queryKey: ["plan", plan.id, "paths", stateOf(plan, draft), day],
    queryFn: ({ signal }) =>
      data(
        api.GET("/api/v1/plans/{plan_id}/paths/{day}", {
          params: { path: { plan_id: plan.id, day }, query: of(draft) },
          signal,
        }),
      ),
    staleTime: Infinity,
  });

export const loadsQuery = (plan: PlanState, draft: Shown, day: string) =>
  queryOptions({
    queryKey: ["plan", plan.id, "paths", "loads", stateOf(plan, draft), day],
    queryFn: ({ signal }) =>
      data(
        api.GET("/api/v1/plans/{plan_id}/paths/{day}/loads", {
          params: { path: { plan_id: plan.id, day }, query: of(draft) },
          signal,
        }),
      ),
    staleTime: Infinity,
  });

/** Loads of a night with operations that are not saved. */
export const previewLoadsQuery = (
  plan: PlanState,
  draft: Shown,
  night: string,
  operations: readonly Operation[],
) =>
  queryOptions({
    queryKey: [
      "plan",
      plan.id,
      "paths",
      "loads",
      stateOf(plan, draft),
      night,
      JSON.stringify(operations),
    ],
    queryFn: ({ signal }) =>
      data(
        api.POST("/api/v1/plans/{plan_id}/paths/loads", {
          params: { path: { plan_id: plan.id } },
          body: { draft: draft?.id ?? null, night, operations: [...operations] },
          signal,
        }),
      ),
    staleTime: Infinity,
    retry: false,
  });

export const weekOfLoadQuery = (plan: PlanState, draft: Shown, day: string, name: string) =>
  queryOptions({
    queryKey: ["plan", plan.id, "paths", "week", stateOf(plan, draft), day, name],
    queryFn: ({ signal }) =>
      data(
        api.GET("/api/v1/plans/{plan_id}/paths/{day}/week", {
          params: { path: { plan_id: plan.id, day }, query: { ...of(draft), name } },
          signal,
        }),
      ),
    staleTime: Infinity,
  });

export type GroupBy = "host" | "datastore" | "tag";

export const reachQuery = (plan: PlanState, draft: Shown, by: GroupBy) =>
  queryOptions({
    queryKey: ["plan", plan.id, "reach", stateOf(plan, draft), by],
    queryFn: ({ signal }) =>
      data(
        api.GET("/api/v1/plans/{plan_id}/reach", {
          params: { path: { plan_id: plan.id }, query: { ...of(draft), by } },
          signal,
        }),
      ),
    staleTime: Infinity,
  });

export const whyQuery = (
  plan: PlanState,
  draft: Shown,
  by: GroupBy,
  group: string,
  proxy: string,
) =>
  queryOptions({
    queryKey: ["plan", plan.id, "why", stateOf(plan, draft), by, group, proxy],
    queryFn: ({ signal }) =>
      data(
        api.GET("/api/v1/plans/{plan_id}/reach/why", {
          params: { path: { plan_id: plan.id }, query: { ...of(draft), by, group, proxy } },
          signal,
        }),
      ),
    staleTime: Infinity,
  });

export const windowsQuery = (plan: PlanState, draft: Shown, day: string) =>
  queryOptions({
    queryKey: ["plan", plan.id, "windows", stateOf(plan, draft), day],
    queryFn: ({ signal }) =>
      data(
        api.GET("/api/v1/plans/{plan_id}/windows/{day}", {
          params: { path: { plan_id: plan.id, day }, query: of(draft) },
          signal,
        }),
      ),
    staleTime: Infinity,
  });

export const readIcs = (plan: number, file: File) =>
  data(
    api.POST("/api/v1/plans/{plan_id}/calendars/read", {
      params: { path: { plan_id: plan } },
      body: { file } as never,
      bodySerializer: () => {
        const form = new FormData();
        form.append("file", file);
        return form;
      },
    }),
  );

interface Asked {
  draft: number | null;
  night: string;
  operations: Operation[];
}

export const askSizing = (plan: number, asked: Asked, signal: AbortSignal) =>
  data(
    api.POST("/api/v1/plans/{plan_id}/sizing", {
      params: { path: { plan_id: plan } },
      body: asked,
      signal,
    }),
  );

export const tryRemedy = (plan: number, asked: Asked, key: string, signal: AbortSignal) =>
  data(
    api.POST("/api/v1/plans/{plan_id}/sizing/try", {
      params: { path: { plan_id: plan } },
      body: { ...asked, key },
      signal,
    }),
  );

export const change = (
  list: List | "jobs",
  id: string,
  changes: Record<string, unknown>,
): Operation => ({
  operation: "ChangeItem",
  list,
  id,
  changes,
});
export const remove = (list: List, id: string): Operation => ({
  operation: "RemoveItem",
  list,
  id,
});
export const add = (list: List, value: Record<string, unknown>): Operation => ({
  operation: "AddItem",
  list,
  value,
});
