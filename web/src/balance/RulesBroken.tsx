import { useQuery } from "@tanstack/react-query";
import { brokenRulesQuery } from "../api/balanceQueries";
import type { Operation } from "../api/client";
import { dateWords } from "../time/time";
import { useWorkbench } from "../workbench/store";
import type { HouseRule } from "./settings";

export const nightsWords = (nights: readonly string[]) =>
  nights.map((night) => `${dateWords(night).short} ${dateWords(night).day}`).join(", ");

/** The rules of the house that some moves of a rung break, although all of them together do not. */
export function RulesBroken({
  asked,
  operations,
}: {
  asked: { day: string; weeks: number; rules: HouseRule[] };
  operations: readonly Operation[];
}) {
  const { plan, draft } = useWorkbench();
  const { data: broken = [] } = useQuery(brokenRulesQuery(plan, draft, asked, operations));
  if (!broken.length) return null;
  return (
    <div role="status" className="mb-1 border border-barn px-2 py-1 text-barn">
      Without the others these moves break {broken.length === 1 ? "a rule" : "rules"} of the house:
      <ul>
        {broken.map((rule) => (
          <li key={rule.words}>
            {rule.words}; broken on {nightsWords(rule.nights)}
          </li>
        ))}
      </ul>
    </div>
  );
}
