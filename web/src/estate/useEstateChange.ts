import { useQueryClient } from "@tanstack/react-query";
import { useCallback, useState } from "react";
import { ApiProblem } from "../api/client";
import { useWorkbench } from "../workbench/store";

/**
 * Runs a change of the estate: one at a time, its problem in words, everything asked anew after.
 */
export function useEstateChange() {
  const { plan } = useWorkbench();
  const client = useQueryClient();
  const [busy, setBusy] = useState(false);
  const [problem, setProblem] = useState<ApiProblem | Error | null>(null);
  const run = useCallback(
    async (work: () => Promise<unknown>): Promise<boolean> => {
      setBusy(true);
      setProblem(null);
      try {
        await work();
        return true;
      } catch (error) {
        setProblem(error as Error);
        return false;
      } finally {
        await client.invalidateQueries({ queryKey: ["plan", plan.id], refetchType: "active" });
        setBusy(false);
      }
    },
    [client, plan.id],
  );
  return { run, busy, problem };
}

/** What went wrong, with the fields at fault. */
export function problemLines(problem: Error | null): string[] {
  if (!problem) return [];
  if (!(problem instanceof ApiProblem)) return [problem.message];
  const fields = (problem.problem.errors ?? []).map((e) => `${e.field}: ${e.reason}`);
  return [problem.message, ...fields];
}
