import { useQuery } from "@tanstack/react-query";
import type { Finding } from "../api/client";
import { findingsQuery } from "../api/planQueries";
import { standingQuery } from "../api/runQueries";
import { mondayOf } from "../time/time";
import { useWorkbench } from "./store";

const GRAVITIES = ["breaks", "risks", "wastes"];

/** Findings of a forecast with those that the ledger knows, the gravest first. */
export function withStanding(forecast: Finding[], standing: Finding[]): Finding[] {
  return GRAVITIES.flatMap((gravity) =>
    [...standing, ...forecast].filter((finding) => finding.gravity === gravity),
  );
}

/**
 * The findings of a draft's week, and of the adopted plan's to tell how many there were. The week
 * that holds tonight has those as well that the ledger knows.
 */
export function useFindings() {
  const { plan, draft, date } = useWorkbench();
  const day = mondayOf(date);
  const shown = useQuery(findingsQuery(plan, draft, day));
  const adopted = useQuery({ ...findingsQuery(plan, null, day), enabled: draft !== null });
  const holdsTonight = day === mondayOf(plan.first_night);
  const standing = useQuery({ ...standingQuery(plan.id), enabled: holdsTonight });
  const known = holdsTonight ? (standing.data?.findings ?? []) : [];
  return {
    findings: shown.data && withStanding(shown.data.findings, known),
    before: adopted.data && withStanding(adopted.data.findings, known),
    error: shown.error,
  };
}
