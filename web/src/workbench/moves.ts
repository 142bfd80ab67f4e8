/** Unsaved moves of a planner, and the operations that they stand for. */

import type { Job, Operation } from "../api/client";
import { minutesOf, timeOf } from "../time/time";

export interface StartMove {
  type: "start";
  job: string;
  schedule: number;
  /** by how many minutes the start moves */
  minutes: number;
}

export interface FullMove {
  type: "full";
  job: string;
  schedule: number;
  /** by how many days the weekly full moves */
  days: number;
  /** how many weeks apart its dates are: moved by as many, it is where it was */
  everyWeeks: number;
}

export interface LockMove {
  type: "lock";
  job: string;
  locked: boolean;
}

export type Move = StartMove | FullMove | LockMove;

/** One more move at the end; it joins the last where both move the same thing. */
export function withMove(moves: readonly Move[], move: Move): Move[] {
  const last = moves.at(-1);
  const others = moves.slice(0, -1);
  if (last?.type === "start" && move.type === "start") {
    if (last.job === move.job && last.schedule === move.schedule) {
      const minutes = last.minutes + move.minutes;
      return minutes ? [...others, { ...last, minutes }] : others;
    }
  }
  if (last?.type === "full" && move.type === "full") {
    if (last.job === move.job && last.schedule === move.schedule) {
      const days = (last.days + move.days) % (7 * move.everyWeeks);
      return days ? [...others, { ...last, days }] : others;
    }
  }
  if (last?.type === "lock" && move.type === "lock" && last.job === move.job) return others;
  return [...moves, move];
}

/** The operations of moves, on jobs as they are saved. */
export function operationsOf(moves: readonly Move[], jobs: ReadonlyMap<string, Job>): Operation[] {
  const starts = new Map<string, number>();
  return moves.flatMap((move): Operation[] => {
    if (move.type === "lock") {
      return [
        { operation: "ChangeItem", list: "jobs", id: move.job, changes: { locked: move.locked } },
      ];
    }
    const { job, schedule } = move;
    if (move.type === "full") return [{ operation: "MoveFull", job, schedule, days: move.days }];
    const saved = jobs.get(job)?.schedules[schedule];
    if (!saved) return [];
    const key = `${job}/${schedule}`;
    const before = starts.get(key) ?? minutesOf(saved.start_time);
    const { time, days } = timeOf(before + move.minutes);
    starts.set(key, minutesOf(time));
    return [{ operation: "MoveStart", job, schedule, start_time: time, day_shift: days }];
  });
}

/** Why a run cannot be moved by hand; null where it can. */
export function whyFixed(job: Job | undefined, schedule: number | null): string | null {
  if (!job) return "This job is not part of the plan any more.";
  if (job.locked) return `${job.name} is locked. L unlocks it.`;
  if (job.after) return `${job.name} follows ${job.after}; move that one.`;
  if (schedule === null) return `${job.name} has no schedule of its own.`;
  return null;
}
