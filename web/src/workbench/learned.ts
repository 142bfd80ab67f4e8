import { useMutation, useQueryClient } from "@tanstack/react-query";
import { editFacts, factEdit } from "../api/estateQueries";
import type { LearnedChange } from "../api/runQueries";

/** Whether the ledger speaks against the daily change that is stated. */
export const changesOtherwise = (row: LearnedChange) => row.otherwise;

/** A fact of machines that the ledger shows. */
export type LearnedFact = "growth_per_year" | "daily_change" | "compress_ratio";

export const percentage = (value: number) =>
  `${(value * 100).toLocaleString("en-GB", { maximumFractionDigits: 1 })} %`;

export const inHundredths = (value: number) =>
  value.toLocaleString("en-GB", { maximumFractionDigits: 2 });

export const ratio = (value: number) => `${inHundredths(value)} : 1`;

/** Taking over a fact of machines as it was learned; it is then what is stated of them. */
export function useTakeLearned<R extends { machine: string }>(
  plan: number,
  fact: LearnedFact,
  valueOf: (row: R) => number,
  onTaken?: () => void,
) {
  const client = useQueryClient();
  return useMutation({
    mutationFn: async (rows: readonly R[]) => {
      // Machines with the same value are one edit, which can be brought back.
      const groups = new Map<number, string[]>();
      for (const row of rows) {
        const rounded = Math.round(valueOf(row) * 1000) / 1000;
        groups.set(rounded, [...(groups.get(rounded) ?? []), row.machine]);
      }
      for (const [value, machines] of groups)
        await editFacts(plan, factEdit(machines, { state: { [fact]: value }, source: "learned" }));
    },
    onSuccess: () => {
      onTaken?.();
      void client.invalidateQueries({ queryKey: ["plan", plan] });
    },
  });
}
