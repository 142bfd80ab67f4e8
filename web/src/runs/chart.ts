import type { RunBar } from "../api/runQueries";
import { millis } from "../time/time";

export interface Lane {
  job: string;
  name: string;
  runs: RunBar[];
}

/** The runs of a night by job, the lane with the earliest run first. */
export function lanesOf(runs: readonly RunBar[]): Lane[] {
  const lanes = new Map<string, Lane>();
  for (const run of runs) {
    const lane = lanes.get(run.job) ?? { job: run.job, name: run.name, runs: [] };
    lane.runs.push(run);
    lanes.set(run.job, lane);
  }
  return [...lanes.values()];
}

const HALF_HOUR = 1_800_000;

/**
 * What of a night is drawn: from before its first long run to after its last end, now included.
 * Jobs that run through the whole day would stretch it, so jobs with a window decide.
 */
export function shownSpan(
  runs: readonly RunBar[],
  start: number,
  end: number,
  now: number | null,
): [number, number] {
  const bound = runs.some((run) => run.window_end) ? runs.filter((run) => run.window_end) : runs;
  const instants = bound.flatMap((run) =>
    [run.began ?? run.predicted_began, run.predicted_began, run.ended, run.predicted_ended,
     run.ahead_end, run.window_end] // prettier-ignore
      .filter((at) => at !== null)
      .map((at) => millis(at)),
  );
  if (!instants.length) return [start, end];
  const from = Math.min(...instants, ...(now === null ? [] : [Math.max(now, start)]));
  const to = Math.max(...instants, ...(now === null ? [] : [Math.min(now, end)]));
  return [Math.floor((from - HALF_HOUR) / HALF_HOUR) * HALF_HOUR, to + HALF_HOUR];
}

/** Hours between ticks, so that about a dozen fit. */
export function tickHours(from: number, to: number): number {
  const hours = (to - from) / 3_600_000;
  return hours > 16 ? 3 : hours > 9 ? 2 : 1;
}
