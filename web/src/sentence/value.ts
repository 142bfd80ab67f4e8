import type { Operation } from "../api/client";
import type { Look } from "../api/jobQueries";

/** A job as the plan file has it, and the operations that make or change one. */

export interface Condition {
  field: string;
  op: string;
  value: string | number | boolean;
}

export interface Selection {
  ids: string[];
  rules: Condition[][];
  exclude: string[];
}

export interface Retention {
  points: number | null;
  days: number | null;
  full_days: number | null;
  incremental_days: number | null;
  weekly: number;
  monthly: number;
  yearly: number;
  /** Up to the end of this date everything is kept. */
  until: string | null;
}

export interface CopyValue {
  repository: string;
  delay_min?: number;
  retention?: Partial<Retention>;
  cold_after_days?: number | null;
}

export interface PathValue {
  machine: string;
  disk: string;
  path: string;
  gib: number;
}

export interface ExclusionReason {
  machine: string;
  reason: string;
  review: string | null;
}

/** A repository to which some machines of a job go instead of the job's own. */
export interface Destination {
  repository: string;
  rules: Condition[][];
}

export type ScheduleValue = { kind: string; time_zone: string } & Record<string, unknown>;

/** The days of a recurrence rule, from Monday on. */
export const CODES = ["MO", "TU", "WE", "TH", "FR", "SA", "SU"];

/** The day of a recurrence rule on which a wall-clock time lies. */
export const codeOf = (local: string) =>
  CODES[(new Date(`${local.slice(0, 10)}T12:00:00Z`).getUTCDay() + 6) % 7]!;

/** A schedule that runs every week at a wall-clock time. */
export const weeklyAt = (kind: string, local: string, time_zone: string): ScheduleValue => ({
  kind,
  rrule: `FREQ=WEEKLY;BYDAY=${codeOf(local)}`,
  start: local,
  time_zone,
});

/** What is read of a job's value; all keys are there, as the server gives the whole value. */
export interface JobValue extends Record<string, unknown> {
  id: string;
  name: string;
  repository: string;
  machines: Partial<Selection>;
  schedules: ScheduleValue[];
  retention: Partial<Retention>;
  copies: CopyValue[];
  destinations: Destination[];
  exclude_disks: [string, string][];
  exclude_disk_rules: Condition[];
  exclude_paths: PathValue[];
  exclude_reasons: ExclusionReason[];
  notify_to: string[];
  proxies: string[] | null;
}

export const NO_RETENTION: Retention = {
  points: null,
  days: null,
  full_days: null,
  incremental_days: null,
  weekly: 0,
  monthly: 0,
  yearly: 0,
  until: null,
};

export const selectionOf = (value: JobValue): Selection => ({
  ids: [],
  rules: [],
  exclude: [],
  ...value.machines,
});
export const retentionOf = (value: Partial<Retention> | undefined): Retention => ({
  ...NO_RETENTION,
  ...value,
});

/** What of some new values is new. */
export function changesOf(
  saved: Record<string, unknown>,
  values: Record<string, unknown>,
): Record<string, unknown> {
  return Object.fromEntries(
    Object.entries(values).filter(
      ([key, value]) => JSON.stringify(value) !== JSON.stringify(saved[key]),
    ),
  );
}

export const addJob = (value: Record<string, unknown>): Operation => ({
  operation: "AddItem",
  list: "jobs",
  value,
});
export const changeJob = (id: string, changes: Record<string, unknown>): Operation => ({
  operation: "ChangeItem",
  list: "jobs",
  id,
  changes,
});
export const removeJob = (id: string): Operation => ({ operation: "RemoveItem", list: "jobs", id });

/** Machines that are left out by name, or taken in again. */
export function excluding(selection: Selection, machine: string, out: boolean): Selection {
  const ids = out ? selection.ids.filter((id) => id !== machine) : selection.ids;
  const exclude = selection.exclude.filter((id) => id !== machine);
  return {
    ...selection,
    ids,
    exclude: out && selection.rules.length ? [...exclude, machine] : exclude,
  };
}

/** A job that leaves a machine out by name, and says why. */
export const leavingOut = (
  value: JobValue,
  why: ExclusionReason,
): Pick<JobValue, "machines" | "exclude_reasons"> => ({
  machines: excluding(selectionOf(value), why.machine, true),
  exclude_reasons: [...value.exclude_reasons.filter((r) => r.machine !== why.machine), why],
});

/** Machines that are taken in by name. */
export function including(selection: Selection, machine: string): Selection {
  return {
    ...selection,
    ids: selection.ids.includes(machine) ? selection.ids : [...selection.ids, machine],
    exclude: selection.exclude.filter((id) => id !== machine),
  };
}

/** A list with one entry elsewhere. */
export function moved<T>(list: readonly T[], from: number, to: number): T[] {
  const next = [...list];
  const [entry] = next.splice(from, 1);
  if (entry !== undefined) next.splice(Math.max(0, Math.min(to, next.length)), 0, entry);
  return next;
}

/** Of starts that were tried the three best that lie at least two hours apart. */
export function bestStarts<T extends { at: string; rank: number }>(
  starts: readonly T[],
  most = 3,
): T[] {
  const found: T[] = [];
  for (const start of [...starts].sort(
    (a, b) => a.rank - b.rank || Date.parse(a.at) - Date.parse(b.at),
  )) {
    if (
      found.every((other) => Math.abs(Date.parse(other.at) - Date.parse(start.at)) >= 2 * 3_600_000)
    )
      found.push(start);
    if (found.length === most) break;
  }
  return found;
}

/** A new condition of a rule, with the first operator of its field. */
export function firstCondition(field: string, ops: Record<string, string[]>): Condition {
  const value =
    field === "powered_on" || field === "only_swap" || field === "holds_backups"
      ? true
      : field.endsWith("_gib")
        ? 100
        : "";
  return { field, op: ops[field]?.[0] ?? "is", value };
}

/**
 * A problem of a value as the server names it, told where it belongs:
 * "machines.rules[0][1].value".
 */
export function isComplete(selection: Selection): boolean {
  return selection.rules.every((rule) => rule.length > 0 && rule.every((c) => c.value !== ""));
}

/** Points that a job could go on from, if they were its own and in its repository. */
export type PointsElsewhere = Look["points_elsewhere"][number];

/** The operations by which a job goes on from points elsewhere; none for those that are its own. */
export function pointsTaken(job: { id: string }, points: readonly PointsElsewhere[]): Operation[] {
  const givers = new Set(points.map((each) => each.job).filter((giver) => giver !== job.id));
  const places = new Set(points.filter((each) => each.carried).map((each) => each.repository));
  return [
    ...[...givers].map((from_job) => ({ operation: "TakeOverPoints", job: job.id, from_job })),
    ...[...places].map((from_repository) => ({
      operation: "CarryPoints",
      job: job.id,
      from_repository,
    })),
  ];
}
