import type { RepositoryLife, Runway, VolumeLife } from "../api/runwayQueries";
import { longDate } from "../time/time";

/** The local date of an instant: "2027-03-14". */
export function dateOf(instant: string, zone: string): string {
  return new Intl.DateTimeFormat("en-CA", {
    timeZone: zone,
    year: "numeric",
    month: "2-digit",
    day: "2-digit",
  }).format(new Date(instant));
}

/** "14 Mar 2027" of an instant. */
export const dayWords = (instant: string, zone: string) => longDate(dateOf(instant, zone));

/** "Mar 2027" of a month such as "2027-03". */
export const monthWords = (month: string) => longDate(`${month}-01`).slice(2);

/** Where an instant stands between the ends of a look ahead: 0 to 1. */
export function placeOf(runway: Pick<Runway, "start" | "end">, instant: string): number {
  const start = Date.parse(runway.start);
  const end = Date.parse(runway.end);
  return Math.min(1, Math.max(0, (Date.parse(instant) - start) / (end - start)));
}

/** The instant in the middle of a part of the look ahead, of `parts` equal ones. */
export function instantOfPart(runway: Pick<Runway, "start" | "end">, part: number, parts: number) {
  const start = Date.parse(runway.start);
  const end = Date.parse(runway.end);
  return new Date(start + ((part + 0.5) / parts) * (end - start)).toISOString();
}

/** The most GiB that a drawing of a repository or a volume reaches up to. */
export function ceilingOf(life: RepositoryLife | VolumeLife): number {
  const peak = Math.max(...life.gib, 1);
  const roof = life.capacity_gib;
  // What would be far above the roof is cut off: how far above does not matter any more.
  const most = "feared_gib" in life ? Math.max(0, ...life.feared_gib) : 0;
  const feared = Math.min(most, (roof ?? peak) * 1.3);
  return Math.max(Math.min(peak, (roof ?? peak) * 1.3), feared, roof ?? 0) * 1.08;
}

/** A curve of steps over `values.length` equal parts as a path 1000 wide. */
export function stepPath(values: readonly number[], y: (value: number) => number): string {
  const width = 1000 / values.length;
  let path = "";
  values.forEach((value, i) => {
    const at = y(value).toFixed(1);
    path += `${i ? "V" : "M0 "}${at}H${((i + 1) * width).toFixed(1)}`;
  });
  return path;
}

/** The area between two curves of steps. */
export function bandPath(
  below: readonly number[],
  above: readonly number[],
  y: (value: number) => number,
): string {
  const width = 1000 / above.length;
  let back = "";
  for (let i = below.length - 1; i >= 0; i--)
    back += `V${y(below[i]!).toFixed(1)}H${(i * width).toFixed(1)}`;
  return `${stepPath(above, y)}${back}Z`;
}

/** What is held there, stacked: of each job the lower and the upper curve, largest below. */
export function stacked(life: Pick<RepositoryLife, "gib" | "jobs" | "rest_gib">) {
  let base = life.gib.map(() => 0);
  const parts = [
    ...life.jobs.map((job) => ({ key: job.job, name: job.name, copies: job.copies, gib: job.gib })),
    { key: "", name: "points of no job", copies: false, gib: life.rest_gib },
  ].filter((part) => part.gib.some((value) => value > 0));
  return parts.map((part) => {
    const below = base;
    const above = below.map((value, i) => value + part.gib[i]!);
    base = above;
    return { ...part, below, above };
  });
}

/** The most that a repository holds in each month, by the parts that begin in it. */
export function peaksByMonth(runway: Runway, life: RepositoryLife) {
  const parts = life.gib.length;
  return runway.months.map((month, i) => {
    const from = Math.floor(placeOf(runway, month.start) * parts);
    const next = runway.months[i + 1];
    const to = next ? Math.max(from + 1, Math.floor(placeOf(runway, next.start) * parts)) : parts;
    return { month: month.name, gib: Math.max(...life.gib.slice(from, to)) };
  });
}
