import type { KeyboardEvent } from "react";
import type { Job, Run } from "../api/client";
import { useWorkbench } from "../workbench/store";
import { whyFixed } from "../workbench/moves";

export const NUDGE_MIN = 5;
export const LONG_NUDGE_MIN = 30;

/** What the keys of the board do to a run; the same on bars and on rows of the table. */
export function useMoveKeys(open: (job: string, run: Run) => void) {
  const bench = useWorkbench();
  return (event: KeyboardEvent, job: Job | undefined, run: Run): boolean => {
    if (event.ctrlKey || event.metaKey || event.altKey) return false;
    const nudge = event.shiftKey ? LONG_NUDGE_MIN : NUDGE_MIN;
    const minutes = { ArrowLeft: -nudge, ArrowRight: nudge }[event.key];
    const days = { "[": -1, "]": 1 }[event.key];
    if (event.key === "Enter") open(run.job, run);
    else if (event.key.toLowerCase() === "l" && job) {
      bench.move({ type: "lock", job: job.id, locked: !job.locked });
    } else if (minutes || days) {
      const fixed = whyFixed(job, run.schedule);
      const schedule = run.schedule === null ? undefined : job?.schedules[run.schedule];
      if (fixed !== null || !schedule) bench.say(fixed ?? "This run has no schedule.");
      else if (minutes) {
        bench.move({ type: "start", job: run.job, schedule: schedule.position, minutes });
      } else if (days) {
        if (schedule.kind === "full" && schedule.every_weeks) {
          bench.move({
            type: "full",
            job: run.job,
            schedule: schedule.position,
            days,
            everyWeeks: schedule.every_weeks,
          });
        } else bench.say("Only weekly fulls move by days.");
      }
    } else return false;
    event.preventDefault();
    event.stopPropagation();
    return true;
  };
}
