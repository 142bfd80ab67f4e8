/** Where things stand on the board: lanes, bars, and the time axis. Pure; knows no canvas. */

import type { CopyRun, Job, Load, Night, Run } from "../api/client";
import { HOUR, millis } from "../time/time";

export const LANE_HEIGHT = 24;
export const AXIS_HEIGHT = 26;
export const LABEL_WIDTH = 208;
export const ROOF_HEIGHT = 68;
export const SHORTEST_SPAN = HOUR / 4;
/** A bar is at least this wide, so that it can be seen and caught. */
export const NARROWEST_BAR = 3;

export type Shape = "full" | "incremental" | "differential" | "synthetic";

export interface Span {
  from: number;
  to: number;
}

/** A linear scale from instants to pixels. */
export interface TimeScale extends Span {
  width: number;
}

export const xOf = (scale: TimeScale, instant: number): number =>
  ((instant - scale.from) / (scale.to - scale.from)) * scale.width;

export const instantAt = (scale: TimeScale, x: number): number =>
  scale.from + (x / scale.width) * (scale.to - scale.from);

/** One run as it is drawn; instants in milliseconds. */
export interface Bar {
  id: string;
  run: Run;
  shape: Shape;
  due: number;
  /** when the first machine started; null where none did */
  start: number | null;
  /** when the last disk had moved: the body ends here, the rest is release and verify */
  moved: number | null;
  end: number | null;
  windowEnd: number | null;
  mark: "skipped" | "missed" | "cut off" | null;
}

export interface Lane {
  job: Job;
  bars: Bar[];
  copies: (CopyRun & { from: number; to: number })[];
  window: Span | null;
  trouble: number;
  lastEnd: number;
  bytes: number;
}

export type Sorting = "trouble" | "end" | "size" | "plan";

export function shapeOf(run: Run): Shape {
  if (run.runs_as === "full") return run.synthetic ? "synthetic" : "full";
  return run.runs_as === "differential" ? "differential" : "incremental";
}

/** Bars of the runs of a lane. Their ids stay the same while a start is moved. */
function barsOf(runs: readonly Run[]): Bar[] {
  const counts = new Map<number | null, number>();
  return runs.map((run) => {
    const ordinal = counts.get(run.schedule) ?? 0;
    counts.set(run.schedule, ordinal + 1);
    return barOf(run, `${run.job}/${run.schedule ?? "follows"}/${ordinal}`);
  });
}

function barOf(run: Run, id: string): Bar {
  const outcome = run.outcome;
  const cut = outcome === "incomplete" && run.done < run.machines;
  return {
    id,
    run,
    shape: shapeOf(run),
    due: millis(run.occurrence),
    start: millis(run.first_start),
    moved: millis(run.moved),
    end: millis(run.ended),
    windowEnd: millis(run.window_end),
    mark: outcome === "skipped" || outcome === "missed" ? outcome : cut ? "cut off" : null,
  };
}

/** How much trouble a run is in; more is worse. */
export function troubleOf(run: Run): number {
  if (run.over_s > 0) return 1e6 + run.over_s;
  if (run.outcome === "missed") return 5e5 + run.machines;
  if (run.done < run.machines) return 4e5 + run.machines - run.done;
  if (run.outcome === "skipped") return 1e5;
  const end = millis(run.ended);
  const close = millis(run.window_end);
  return end && close ? Math.max(0, 5e4 - (close - end) / 1000) : 0;
}

/** The lanes of a night, one for each job that has anything on it, sorted. */
export function lanesOf(night: Night, jobs: readonly Job[], sorting: Sorting): Lane[] {
  const windows = new Map(night.windows.map((w) => [w.job, w]));
  const lanes = jobs.map((job): Lane => {
    const runs = night.run_list.filter((run) => run.job === job.id);
    const window = windows.get(job.id);
    return {
      job,
      bars: barsOf(runs),
      copies: night.copies
        .filter((copy) => copy.job === job.id)
        .map((copy) => ({ ...copy, from: millis(copy.start), to: millis(copy.ended) })),
      window: window ? { from: millis(window.opens), to: millis(window.closes) } : null,
      trouble: Math.max(0, ...runs.map(troubleOf)),
      lastEnd: Math.max(0, ...runs.map((run) => millis(run.ended) ?? 0)),
      bytes: runs.reduce((sum, run) => sum + run.source_bytes, 0),
    };
  });
  const order: Record<Sorting, (lane: Lane) => number> = {
    trouble: (lane) => -lane.trouble,
    end: (lane) => -lane.lastEnd,
    size: (lane) => -lane.bytes,
    plan: () => 0,
  };
  const busy = lanes.filter((lane) => lane.bars.length || lane.copies.length);
  const idle = lanes.filter((lane) => !lane.bars.length && !lane.copies.length);
  return [...busy.sort((a, b) => order[sorting](a) - order[sorting](b)), ...idle];
}

/** The span that shows a night best: its windows and all that runs past them, an hour around. */
export function fittingSpan(night: Night): Span {
  const opens = night.windows.map((w) => millis(w.opens));
  const closes = night.windows.map((w) => millis(w.closes));
  const start = millis(night.start);
  const end = millis(night.end);
  if (!opens.length) return { from: start, to: end };
  const bound = night.run_list.filter((run) => run.window_end !== null);
  const ends = bound.map((run) => millis(run.ended) ?? 0);
  return {
    from: Math.max(start, Math.min(...opens) - HOUR),
    to: Math.min(end, Math.max(...closes, ...ends) + 1.5 * HOUR),
  };
}

/** Where the walls of a load's roof stand: around the windows of the jobs that use it. */
export function wallsOf(load: Load, lanes: readonly Lane[]): Span | null {
  // Copies and work inside repositories know no window.
  const users = new Set(load.parts.filter((p) => p.purpose === "read").map((p) => p.job));
  const windows = lanes
    .filter((lane) => users.has(lane.job.id))
    .flatMap((lane) => lane.window ?? []);
  if (!windows.length) return null;
  return {
    from: Math.min(...windows.map((w) => w.from)),
    to: Math.max(...windows.map((w) => w.to)),
  };
}

/** A span made longer or shorter around an instant, kept inside its bounds. */
export function zoomed(span: Span, factor: number, around: number, bounds: Span): Span {
  const length = Math.min(
    bounds.to - bounds.from,
    Math.max(SHORTEST_SPAN, (span.to - span.from) * factor),
  );
  const part = (around - span.from) / (span.to - span.from);
  return shifted({ from: around - part * length, to: around + (1 - part) * length }, 0, bounds);
}

/** A span moved along, kept inside its bounds. */
export function shifted(span: Span, by: number, bounds: Span): Span {
  const length = span.to - span.from;
  const from = Math.min(Math.max(span.from + by, bounds.from), bounds.to - length);
  return { from, to: from + length };
}

/** Steps of a load as [milliseconds, value], from offsets in seconds. */
export function absolute(steps: number[][], start: number): [number, number][] {
  return steps.map(([at, value]) => [start + (at ?? 0) * 1000, value ?? 0]);
}

/** The value that steps have at an instant. */
export function valueAt(steps: readonly [number, number][], instant: number): number {
  let low = 0;
  let high = steps.length;
  while (low < high) {
    const middle = (low + high) >> 1;
    if (steps[middle]![0] <= instant) low = middle + 1;
    else high = middle;
  }
  return low ? steps[low - 1]![1] : 0;
}
