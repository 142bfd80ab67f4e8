import { queryOptions, useQuery } from "@tanstack/react-query";
import { useEffect } from "react";
import { useLocation } from "react-router";
import { api, data } from "../api/client";
import type { components } from "../api/schema";
import { useWorkbench } from "./store";
import { useEdited } from "./unsaved";

export type Other = components["schemas"]["OtherSchema"];

const EVERY_MS = 3_000;
/** This window among those of the same person. */
const WINDOW = crypto.getRandomValues(new Uint32Array(2)).join("");

type Here = Omit<Other, "name">;

const othersQuery = (plan: number, here: Here) =>
  queryOptions({
    queryKey: ["presence", plan, here],
    queryFn: ({ signal }) =>
      data(
        api.POST("/api/v1/plans/{plan_id}/presence", {
          params: { path: { plan_id: plan } },
          body: { ...here, window: WINDOW },
          signal,
        }),
      ),
    refetchInterval: EVERY_MS,
    gcTime: 0,
    retry: false,
    placeholderData: (before) => before,
  });

/** Who else is at the plan in hand, told every few seconds, and tells them where this window is. */
export function useOthers(): readonly Other[] {
  const { plan, draft } = useWorkbench();
  const view = useLocation().pathname.split("/")[1] || "board";
  const editing = useEdited();
  const found = useQuery(othersQuery(plan.id, { view, draft: draft?.id ?? null, editing }));
  useEffect(() => {
    const leave = () =>
      void api.DELETE("/api/v1/plans/{plan_id}/presence", {
        params: { path: { plan_id: plan.id }, query: { window: WINDOW } },
        keepalive: true,
      });
    window.addEventListener("pagehide", leave);
    return () => window.removeEventListener("pagehide", leave);
  }, [plan.id]);
  return found.data?.others ?? [];
}
