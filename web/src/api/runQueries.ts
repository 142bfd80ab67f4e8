import { queryOptions } from "@tanstack/react-query";
import { api, data, done, type Draft } from "./client";
import type { stateOf } from "./planQueries";
import type { components } from "./schema";

type Schemas = components["schemas"];
export type Tonight = Schemas["TonightSchema"];
export type RunBar = Schemas["RunBarSchema"];
export type PastNight = Schemas["PastNightSchema"];
export type NightMark = Schemas["NightMarkSchema"];
export type Report = Schemas["ReportSchema"];
export type LedgerRun = Schemas["LedgerRunSchema"];
export type LedgerMachine = Schemas["LedgerMachineSchema"];
export type LedgerLine = Schemas["LedgerLineSchema"];
export type Trouble = Schemas["TroubleSchema"];
export type Order = Schemas["OrderSchema"];
export type Runner = Schemas["RunnerSchema"];
export type OrderRequest = Schemas["OrderRequestSchema"];
export type OrderKind = OrderRequest["kind"];

/** What a plan's runs are kept under: news of them makes all of it stale. */
export const runsKey = (plan: number) => ["plan", plan, "runs"];

const at = (plan: number) => ({ params: { path: { plan_id: plan } } });

export const tonightQuery = (plan: number) =>
  queryOptions({
    queryKey: [...runsKey(plan), "tonight"],
    queryFn: ({ signal }) =>
      data(api.GET("/api/v1/plans/{plan_id}/tonight", { ...at(plan), signal })),
    // News brings everything but silence.
    refetchInterval: 30_000,
  });

export type RunOutlook = Schemas["RunOutlookSchema"];
export type HelpTonight = Schemas["HelpTonightSchema"];

/** How soon it is asked again while the rest of the night is being drawn. */
const DRAWN_AGAIN_MS = 1_500;

/** How the night under way will end; drawn by the server beside the requests. */
export const outlookQuery = (plan: number) =>
  queryOptions({
    queryKey: [...runsKey(plan), "outlook"],
    queryFn: ({ signal }) =>
      data(api.GET("/api/v1/plans/{plan_id}/tonight/outlook", { ...at(plan), signal })),
    refetchInterval: ({ state }) =>
      state.data && (!state.data.current || state.data.looking) ? DRAWN_AGAIN_MS : false,
    placeholderData: (before) => before,
  });

/** Findings that need the ledger; they stand whatever is edited. */
export const standingQuery = (plan: number) =>
  queryOptions({
    queryKey: [...runsKey(plan), "standing"],
    queryFn: ({ signal }) =>
      data(api.GET("/api/v1/plans/{plan_id}/standing", { ...at(plan), signal })),
    staleTime: 30_000,
  });

export const pastNightsQuery = (plan: number) =>
  queryOptions({
    queryKey: ["plan", plan, "past nights"],
    queryFn: ({ signal }) =>
      data(api.GET("/api/v1/plans/{plan_id}/past-nights", { ...at(plan), signal })),
  });

export const pastNightQuery = (plan: number, day: string) =>
  queryOptions({
    queryKey: ["plan", plan, "past night", day],
    queryFn: ({ signal }) =>
      data(
        api.GET("/api/v1/plans/{plan_id}/past-nights/{day}", {
          params: { path: { plan_id: plan, day } },
          signal,
        }),
      ),
  });

export const forecastErrorsQuery = (plan: number) =>
  queryOptions({
    queryKey: ["plan", plan, "forecast errors"],
    queryFn: ({ signal }) =>
      data(
        api.GET("/api/v1/plans/{plan_id}/forecast-errors", {
          params: { path: { plan_id: plan } },
          signal,
        }),
      ),
  });

export type LearnedRate = Schemas["LearnedRateSchema"];
export type Taken = Schemas["ValueTakenSchema"];

export const learnedRatesQuery = (plan: number) =>
  queryOptions({
    queryKey: ["plan", plan, "learned rates"],
    queryFn: ({ signal }) =>
      data(api.GET("/api/v1/plans/{plan_id}/learned-rates", { ...at(plan), signal })),
  });

export type LearnedTime = Schemas["LearnedTimeSchema"];

export const learnedTimesQuery = (plan: number) =>
  queryOptions({
    queryKey: ["plan", plan, "learned times"],
    queryFn: ({ signal }) =>
      data(api.GET("/api/v1/plans/{plan_id}/learned-times", { ...at(plan), signal })),
  });

/** How much change and rates vary, as the ledger knows it. */
export const learnedSpreadQuery = (plan: number) =>
  queryOptions({
    queryKey: ["plan", plan, "learned spread"],
    queryFn: ({ signal }) =>
      data(api.GET("/api/v1/plans/{plan_id}/learned-spread", { ...at(plan), signal })),
    staleTime: 300_000,
  });

export type LearnedChange = Schemas["LearnedChangeSchema"];

export const learnedChangesQuery = (plan: number) =>
  queryOptions({
    queryKey: ["plan", plan, "learned changes"],
    queryFn: ({ signal }) =>
      data(api.GET("/api/v1/plans/{plan_id}/learned-changes", { ...at(plan), signal })),
  });

export const learnedRatiosQuery = (plan: number) =>
  queryOptions({
    queryKey: ["plan", plan, "learned ratios"],
    queryFn: ({ signal }) =>
      data(api.GET("/api/v1/plans/{plan_id}/learned-ratios", { ...at(plan), signal })),
  });

export type FailureRate = Schemas["FailureRateSchema"];

export const failureRatesQuery = (plan: number) =>
  queryOptions({
    queryKey: ["plan", plan, "failure rates"],
    queryFn: ({ signal }) =>
      data(api.GET("/api/v1/plans/{plan_id}/failure-rates", { ...at(plan), signal })),
  });

export const nightSheetQuery = (plan: number, draft: Draft | null, day: string) =>
  queryOptions({
    queryKey: ["plan", plan, "night sheet", draft?.id ?? null, draft?.revision ?? 0, day],
    queryFn: ({ signal }) =>
      data(
        api.GET("/api/v1/plans/{plan_id}/nights/{day}/sheet", {
          params: { path: { plan_id: plan, day }, query: draft ? { draft: draft.id } : {} },
          signal,
        }),
      ),
  });

export const nightSheetFile = (plan: number, draft: Draft | null, day: string) =>
  `/api/v1/plans/${plan}/nights/${day}/sheet.pdf${draft ? `?draft=${draft.id}` : ""}`;

export const reportQuery = (plan: number, day: string) =>
  queryOptions({
    queryKey: ["plan", plan, "report", day],
    queryFn: ({ signal }) =>
      data(
        api.GET("/api/v1/plans/{plan_id}/past-nights/{day}/report", {
          params: { path: { plan_id: plan, day } },
          signal,
        }),
      ),
  });

export const ledgerRunQuery = (plan: number, job: string, occurrence: string) =>
  queryOptions({
    queryKey: [...runsKey(plan), "run", job, occurrence],
    queryFn: ({ signal }) =>
      data(
        api.GET("/api/v1/plans/{plan_id}/ledger/runs/{job}/{occurrence}", {
          params: { path: { plan_id: plan, job, occurrence } },
          signal,
        }),
      ),
  });

export type LedgerFilter = Partial<
  Record<"machine" | "job" | "outcome" | "from" | "to", string | null>
>;

export const ledgerPage = (plan: number, filter: LedgerFilter, before: string | null) =>
  data(
    api.GET("/api/v1/plans/{plan_id}/ledger", {
      params: {
        path: { plan_id: plan },
        query: { ...filter, ...(before ? { before } : {}) },
      },
    }),
  );

export type RehearsalTold = Schemas["RehearsalSchema"];
export type RehearsalRequest = Schemas["RehearsalRequestSchema"];
export type RehearsedTrouble = NonNullable<RehearsalRequest["troubles"]>[number];

type PlanShown = ReturnType<typeof stateOf>;

/** A night carried out apart, in the stand-in's world. `state` says which plan it is. */
export const rehearsalQuery = (plan: number, state: PlanShown, body: RehearsalRequest) =>
  queryOptions({
    queryKey: ["plan", plan, "rehearsal", state, body],
    queryFn: ({ signal }) =>
      data(api.POST("/api/v1/plans/{plan_id}/rehearsals", { ...at(plan), body, signal })),
    staleTime: Infinity,
  });

export const rehearsedRunQuery = (
  plan: number,
  state: PlanShown,
  body: RehearsalRequest,
  run: { job: string; occurrence: string },
) =>
  queryOptions({
    queryKey: ["plan", plan, "rehearsal", state, body, run.job, run.occurrence],
    queryFn: ({ signal }) =>
      data(
        api.POST("/api/v1/plans/{plan_id}/rehearsals/run", {
          ...at(plan),
          body: { ...body, job: run.job, occurrence: run.occurrence },
          signal,
        }),
      ),
    staleTime: Infinity,
  });

export const previewOrder = (plan: number, order: OrderRequest) =>
  data(api.POST("/api/v1/plans/{plan_id}/orders/preview", { ...at(plan), body: order }));

export const giveOrder = (plan: number, order: OrderRequest) =>
  data(api.POST("/api/v1/plans/{plan_id}/orders", { ...at(plan), body: order }));

export const takeBackOrder = (plan: number, order: number) =>
  data(
    api.DELETE("/api/v1/plans/{plan_id}/orders/{order_id}", {
      params: { path: { plan_id: plan, order_id: order } },
    }),
  );

export const confirmOrder = (plan: number, order: number) =>
  data(
    api.POST("/api/v1/plans/{plan_id}/orders/{order_id}/confirmation", {
      params: { path: { plan_id: plan, order_id: order } },
    }),
  );

export interface ClockRequest {
  speed?: number;
  to_next?: "noon" | "morning";
}

export const setClock = (plan: number, { speed, to_next }: ClockRequest) =>
  data(
    api.POST("/api/v1/plans/{plan_id}/clock", {
      ...at(plan),
      body: { speed: speed ?? null, to_next: to_next ?? null },
    }),
  );

export const runnersQuery = (plan: number) =>
  queryOptions({
    queryKey: ["plan", plan, "runners"],
    queryFn: ({ signal }) =>
      data(api.GET("/api/v1/plans/{plan_id}/runners", { ...at(plan), signal })),
  });

export const addRunner = (plan: number, name: string, kind: "runner" | "script") =>
  data(api.POST("/api/v1/plans/{plan_id}/runners", { ...at(plan), body: { name, kind } }));

export async function removeRunner(plan: number, runner: number): Promise<void> {
  await done(
    api.DELETE("/api/v1/plans/{plan_id}/runners/{runner_id}", {
      params: { path: { plan_id: plan, runner_id: runner } },
    }),
  );
}

export type MailServer = Schemas["MailServerSchema"];
export type RunSettings = Schemas["RunSettingsSchema"];

export const mailServerQuery = queryOptions({
  queryKey: ["mail", "server"],
  queryFn: ({ signal }) => data(api.GET("/api/v1/mail", { signal })),
});

export const outboxQuery = queryOptions({
  queryKey: ["mail", "outbox"],
  queryFn: ({ signal }) => data(api.GET("/api/v1/mail/outbox", { signal })),
  refetchInterval: 5000,
});

export const runSettingsQuery = (plan: number) =>
  queryOptions({
    queryKey: ["plan", plan, "run settings"],
    queryFn: ({ signal }) =>
      data(api.GET("/api/v1/plans/{plan_id}/run-settings", { ...at(plan), signal })),
  });

export const setMailServer = (body: MailServer & { password: string | null }) =>
  data(api.PUT("/api/v1/mail", { body }));

export const setRunSettings = (plan: number, body: RunSettings) =>
  data(api.PUT("/api/v1/plans/{plan_id}/run-settings", { ...at(plan), body }));

export const sendTestMail = (to: string) => data(api.POST("/api/v1/mail/test", { body: { to } }));

export type PastRunsRequest = Schemas["PastRunsRequestSchema"];
export type PastRunsFound = Schemas["PastRunsSchema"];

export const importPastRuns = (plan: number, body: PastRunsRequest) =>
  data(api.POST("/api/v1/plans/{plan_id}/ledger/imports", { ...at(plan), body }));
