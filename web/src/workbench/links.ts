import { useSearchParams } from "react-router";
import { planOf } from "./address";
import { useWorkbench } from "./store";

/** Addresses in the view of jobs, with the plan and the draft in hand. */
export function useJobLinks() {
  const { date } = useWorkbench();
  const [search] = useSearchParams();
  const to = (more: [string, string][]) => {
    const kept = new URLSearchParams(planOf(search));
    for (const [key, value] of more) kept.append(key, value);
    return { pathname: `/jobs/${date}`, search: kept.toString() };
  };
  return {
    job: (id: string) => to([["job", id]]),
    /** A new job that lists machines by name. */
    fresh: (machines: readonly string[]) =>
      to([["new", ""], ...machines.map((m): [string, string] => ["machine", m])]),
  };
}
