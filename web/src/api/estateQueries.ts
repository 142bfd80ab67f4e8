import { queryOptions } from "@tanstack/react-query";
import type { components } from "./schema";
import { api, data, done } from "./client";
import { type PlanState, stateOf } from "./planQueries";

type Schemas = components["schemas"];
export type MachinePage = Schemas["MachinePageSchema"];
export type MachineEntry = Schemas["MachineEntrySchema"];
export type Machine = Schemas["MachineSchema"];
export type Source = Schemas["SourceSchema"];
export type Difference = Schemas["DifferenceSchema"];
export type Effect = Schemas["EffectSchema"];
export type Acceptance = Schemas["AcceptanceSchema"];
export type FactEdit = Schemas["FactEditSchema"];
export type Group = Schemas["GroupSchema"];

/** What the table shows, as it stands in the address. */
export interface Shown {
  search: string;
  coverage: string[];
  where: string[];
  hazards: boolean;
  group: string;
  sort: string;
  descending: boolean;
  asOf: number | null;
}

type Query = NonNullable<
  import("./schema").paths["/api/v1/plans/{plan_id}/estate"]["get"]["parameters"]["query"]
>;

export function asQuery(shown: Shown, draft: number | null): Query {
  return {
    search: shown.search,
    coverage: shown.coverage as NonNullable<Query["coverage"]>,
    where: shown.where,
    hazards: shown.hazards,
    group: shown.group as NonNullable<Query["group"]>,
    sort: shown.sort as NonNullable<Query["sort"]>,
    descending: shown.descending,
    ...(shown.asOf !== null && { as_of: shown.asOf }),
    ...(draft !== null && { draft }),
  };
}

export const PAGE = 100;

const machines = (plan: number, query: Query, signal: AbortSignal) =>
  data(
    api.GET("/api/v1/plans/{plan_id}/estate", {
      params: { path: { plan_id: plan }, query },
      signal,
    }),
  );

export const pageQuery = (
  plan: PlanState,
  draft: { id: number; revision: number } | null,
  shown: Shown,
  page: number,
) =>
  queryOptions({
    queryKey: ["plan", plan.id, "estate", "machines", stateOf(plan, draft), shown, page],
    queryFn: ({ signal }) =>
      machines(
        plan.id,
        { ...asQuery(shown, draft?.id ?? null), offset: page * PAGE, limit: PAGE },
        signal,
      ),
    staleTime: 60_000,
  });

/** The first machines of a name, or with some other field that says it. */
export const machinesNamedQuery = (
  plan: PlanState,
  draft: { id: number; revision: number } | null,
  search: string,
) =>
  queryOptions({
    queryKey: ["plan", plan.id, "estate", "named", stateOf(plan, draft), search],
    queryFn: ({ signal }) =>
      machines(
        plan.id,
        { search, limit: 12, sort: "name", ...(draft && { draft: draft.id }) },
        signal,
      ),
    staleTime: 60_000,
  });

export const exposureQuery = (plan: number, day: string) =>
  queryOptions({
    queryKey: ["plan", plan, "estate", "exposure", day],
    queryFn: ({ signal }) =>
      data(
        api.GET("/api/v1/plans/{plan_id}/estate/exposure/{day}", {
          params: { path: { plan_id: plan, day } },
          signal,
        }),
      ) as Promise<{
        worst_s: Record<string, number | null>;
        restore_s: Record<string, number | null>;
      }>,
    staleTime: Infinity,
  });

export const machineQuery = (
  plan: PlanState,
  draft: { id: number; revision: number } | null,
  name: string,
  night: string,
) =>
  queryOptions({
    queryKey: ["plan", plan.id, "estate", "machine", stateOf(plan, draft), name, night],
    queryFn: ({ signal }) =>
      data(
        api.GET("/api/v1/plans/{plan_id}/estate/machines/{name}", {
          params: {
            path: { plan_id: plan.id, name },
            query: { night, ...(draft && { draft: draft.id }) },
          },
          signal,
        }),
      ),
  });

export const sourcesQuery = (plan: number) =>
  queryOptions({
    queryKey: ["plan", plan, "estate", "sources"],
    queryFn: ({ signal }) =>
      data(
        api.GET("/api/v1/plans/{plan_id}/sources", { params: { path: { plan_id: plan } }, signal }),
      ),
    // While something is being read its progress is asked for.
    refetchInterval: (query) =>
      query.state.data?.sources.some((s) => s.last_discovery?.state === "running") ? 700 : 15_000,
  });

export const inboxQuery = (plan: number, state: "open" | "dismissed" = "open") =>
  queryOptions({
    queryKey: ["plan", plan, "estate", "inbox", state],
    queryFn: ({ signal }) =>
      data(
        api.GET("/api/v1/plans/{plan_id}/inbox", {
          params: { path: { plan_id: plan }, query: { state } },
          signal,
        }),
      ),
    refetchInterval: 15_000,
  });

export const effectQuery = (plan: number, ids: number[], night: string) =>
  queryOptions({
    queryKey: ["plan", plan, "estate", "effect", ids, night],
    queryFn: ({ signal }) =>
      data(
        api.POST("/api/v1/plans/{plan_id}/inbox/effect", {
          params: { path: { plan_id: plan } },
          body: { ids, night },
          signal,
        }),
      ),
    staleTime: 60_000,
  });

export const acceptancesQuery = (plan: number) =>
  queryOptions({
    queryKey: ["plan", plan, "estate", "acceptances"],
    queryFn: ({ signal }) =>
      data(
        api.GET("/api/v1/plans/{plan_id}/acceptances", {
          params: { path: { plan_id: plan } },
          signal,
        }),
      ),
  });

const onPlan = (plan: number) => ({ params: { path: { plan_id: plan } } });

export const accept = (plan: number, ids: number[]) =>
  data(api.POST("/api/v1/plans/{plan_id}/inbox/accept", { ...onPlan(plan), body: { ids } }));

/** For answers without a body, where no data is no error. */

export const dismiss = (plan: number, ids: number[]) =>
  done(api.POST("/api/v1/plans/{plan_id}/inbox/dismiss", { ...onPlan(plan), body: { ids } }));

export const reopen = (plan: number, ids: number[]) =>
  done(api.POST("/api/v1/plans/{plan_id}/inbox/reopen", { ...onPlan(plan), body: { ids } }));

/** Standing rules about what the ledger shows of machines. */
export type LearnedRuleKind = "learned change" | "learned ratio";

export const setStandingRule = (
  plan: number,
  kind: Difference["kind"] | LearnedRuleKind,
  action: "accept" | "dismiss" | null,
) =>
  data(
    api.PUT("/api/v1/plans/{plan_id}/standing-rules", { ...onPlan(plan), body: { kind, action } }),
  );

export const undoAcceptance = (id: number) =>
  data(
    api.POST("/api/v1/acceptances/{acceptance_id}/undo", {
      params: { path: { acceptance_id: id } },
    }),
  );

export const bringBack = (id: number) =>
  data(
    api.POST("/api/v1/acceptances/{acceptance_id}/bring-back", {
      params: { path: { acceptance_id: id } },
    }),
  );

/** An edit of facts that says only some things of some machines. */
export const factEdit = (machines: string[], some: Partial<FactEdit>): FactEdit => ({
  machines,
  state: {},
  revert: [],
  snapshots: null,
  leave_out: null,
  take_in: false,
  source: "stated",
  ...some,
});

export const editFacts = (plan: number, body: FactEdit) =>
  data(api.POST("/api/v1/plans/{plan_id}/estate/facts", { ...onPlan(plan), body }));

export const checkAccess = (plan: number, sources: number[]) =>
  data(api.POST("/api/v1/plans/{plan_id}/access-checks", { ...onPlan(plan), body: { sources } }));

export const discover = (plan: number, sources: number[]) =>
  data(api.POST("/api/v1/plans/{plan_id}/discoveries", { ...onPlan(plan), body: { sources } }));

export const cancelDiscovery = (id: number) =>
  done(
    api.DELETE("/api/v1/discoveries/{discovery_id}", { params: { path: { discovery_id: id } } }),
  );

export const setSecret = (account: number, user: string, secret: string) =>
  data(
    api.PUT("/api/v1/accounts/{account_id}/secret", {
      params: { path: { account_id: account } },
      body: { user, secret },
    }),
  );

export const addSource = (plan: number, body: Schemas["NewSourceSchema"]) =>
  data(api.POST("/api/v1/plans/{plan_id}/sources", { ...onPlan(plan), body }));

export const removeSource = (id: number) =>
  done(api.DELETE("/api/v1/sources/{source_id}", { params: { path: { source_id: id } } }));

export const setInterval = (source: Source, minutes: number | null) =>
  data(
    api.PATCH("/api/v1/sources/{source_id}", {
      params: { path: { source_id: source.id }, header: { "If-Match": `"${source.revision}"` } },
      body: { interval_min: minutes },
    }),
  );

export type ImportPreview = Schemas["ImportPreviewSchema"];

export interface ImportChoices {
  /** The column of each field, for CSV; null: guessed from the header. */
  mapping: Record<string, string> | null;
  unit: string;
  host: string;
  /** The site at which hosts that the plan does not have are added; empty: they are an error. */
  newHostsAt: string;
  /** By field what words of the file mean, where that is not known or is something else. */
  words: Record<string, Record<string, string>>;
}

function importForm(
  files: File[],
  choices: ImportChoices,
  more: Record<string, string> = {},
): FormData {
  const form = new FormData();
  for (const file of files) form.append("files", file, file.name);
  if (choices.mapping) form.append("mapping", JSON.stringify(choices.mapping));
  form.append("unit", choices.unit);
  if (Object.keys(choices.words).length) form.append("words", JSON.stringify(choices.words));
  if (choices.host) form.append("host", choices.host);
  if (choices.newHostsAt) form.append("new_hosts_at", choices.newHostsAt);
  for (const [key, value] of Object.entries(more)) form.append(key, value);
  return form;
}

/** A form goes out as it is; what its fields are, the API's description says. */
const asForm = (form: FormData) => ({ body: form as never, bodySerializer: () => form });

export const previewImport = (plan: number, files: File[], choices: ImportChoices, night: string) =>
  data(
    api.POST("/api/v1/plans/{plan_id}/imports/preview", {
      ...onPlan(plan),
      ...asForm(importForm(files, choices, { night })),
    }),
  );

export const importFiles = (
  plan: number,
  files: File[],
  choices: ImportChoices,
  goodRows: boolean,
  base: number,
) =>
  data(
    api.POST("/api/v1/plans/{plan_id}/imports", {
      ...onPlan(plan),
      ...asForm(
        importForm(files, choices, { good_rows: String(goodRows), base_version: String(base) }),
      ),
    }),
  );
