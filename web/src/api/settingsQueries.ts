import { queryOptions } from "@tanstack/react-query";
import { api, data, done, rememberToken } from "./client";
import type { components } from "./schema";

type Schemas = components["schemas"];
export type Person = Schemas["PersonSchema"];
export type Role = Person["role"];
export type Invitation = Schemas["InvitationSchema"];
export type Token = Schemas["TokenSchema"];
export type Provider = Schemas["ProviderShownSchema"];
export type ProviderChange = Schemas["ProviderChangeSchema"];
export type AuditEntry = Schemas["AuditEntrySchema"];
export type OwnSession = Schemas["OwnSessionSchema"];

export const ownSessionsQuery = queryOptions({
  queryKey: ["session", "all"],
  queryFn: ({ signal }) => data(api.GET("/api/v1/session/all", { signal })),
});

export const endSession = (session_id: string) =>
  done(api.DELETE("/api/v1/session/all/{session_id}", { params: { path: { session_id } } }));

export const setPassword = async (old: string | null, password: string) =>
  rememberToken(await data(api.PUT("/api/v1/session/password", { body: { old, password } })));

export const signInWithPassword = async (name: string, password: string) =>
  rememberToken(await data(api.POST("/api/v1/session/password", { body: { name, password } })));

export const peopleQuery = queryOptions({
  queryKey: ["people"],
  queryFn: ({ signal }) => data(api.GET("/api/v1/people", { signal })),
});

const onPerson = (person_id: number) => ({ params: { path: { person_id } } });

export const addPerson = (name: string, role: Role) =>
  data(api.POST("/api/v1/people", { body: { name, role } }));

export const changePerson = (id: number, body: Schemas["PersonChangeSchema"]) =>
  data(api.PATCH("/api/v1/people/{person_id}", { ...onPerson(id), body }));

export const invite = (id: number) =>
  data(api.POST("/api/v1/people/{person_id}/invitations", onPerson(id)));

export const signOutEverywhere = (id: number) =>
  data(api.DELETE("/api/v1/people/{person_id}/sessions", onPerson(id)));

export const tokensQuery = queryOptions({
  queryKey: ["tokens"],
  queryFn: ({ signal }) => data(api.GET("/api/v1/tokens", { signal })),
});

export const makeToken = (name: string, role: Role, days: number | null) =>
  data(api.POST("/api/v1/tokens", { body: { name, role, days } }));

export const endToken = (token_id: number) =>
  done(api.DELETE("/api/v1/tokens/{token_id}", { params: { path: { token_id } } }));

export const providerQuery = queryOptions({
  queryKey: ["identity provider"],
  queryFn: ({ signal }) => data(api.GET("/api/v1/identity-provider", { signal })),
});

export const setProvider = (body: ProviderChange) =>
  data(api.PUT("/api/v1/identity-provider", { body }));

/** Which entries of the audit trail are asked for; all, where nothing is. */
export interface TrailWanted {
  said?: string;
  action?: string;
  since?: string;
  until?: string;
}

/** Entries with a lower number than `before`, the newest first. */
export const trailPage = (wanted: TrailWanted, before: number | null, signal: AbortSignal) =>
  data(
    api.GET("/api/v1/audit", {
      params: { query: { ...wanted, ...(before !== null && { before }) } },
      signal,
    }),
  );

/** The address of the entries that are asked for, all of them, as a file. */
export const trailFile = (wanted: TrailWanted, ending: "csv" | "xlsx" | "jsonl") =>
  `/api/v1/audit/trail.${ending}?${new URLSearchParams({ ...wanted })}`;

export const ownDataQuery = queryOptions({
  queryKey: ["own data"],
  queryFn: ({ signal }) => data(api.GET("/api/v1/server/data", { signal })),
});

export type FeedWhat = NonNullable<Schemas["NewFeedSchema"]["what"]>;

const onPlan = (plan_id: number) => ({ params: { path: { plan_id } } });

export const feedsQuery = (plan: number) =>
  queryOptions({
    queryKey: ["plan", plan, "feeds"],
    queryFn: ({ signal }) =>
      data(api.GET("/api/v1/plans/{plan_id}/feeds", { ...onPlan(plan), signal })),
  });

export const makeFeed = (plan: number, name: string, what: FeedWhat) =>
  data(api.POST("/api/v1/plans/{plan_id}/feeds", { ...onPlan(plan), body: { name, what } }));

export const endFeed = (plan_id: number, feed_id: number) =>
  done(
    api.DELETE("/api/v1/plans/{plan_id}/feeds/{feed_id}", {
      params: { path: { plan_id, feed_id } },
    }),
  );

export const rulesQuery = queryOptions({
  queryKey: ["rules"],
  queryFn: ({ signal }) => data(api.GET("/api/v1/rules", { signal })),
});

export const setRules = (body: Schemas["RulesSchema"]) => data(api.PUT("/api/v1/rules", { body }));
