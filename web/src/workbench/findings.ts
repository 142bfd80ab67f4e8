import { useQuery } from "@tanstack/react-query";
import { findingsQuery } from "../api/planQueries";
import { mondayOf } from "../time/time";
import { useWorkbench } from "./store";

/** The findings of a draft's week, and of the adopted plan's to tell how many there were. */
export function useFindings() {
  const { plan, draft, date } = useWorkbench();
  const day = mondayOf(date);
  const shown = useQuery(findingsQuery(plan, draft, day));
  const adopted = useQuery({ ...findingsQuery(plan, null, day), enabled: draft !== null });
  return { findings: shown.data?.findings, before: adopted.data?.findings, error: shown.error };
}
