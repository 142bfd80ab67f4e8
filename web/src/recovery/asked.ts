import { useCallback, useState } from "react";
import type { ComesBack, Loss, Recovery, Way } from "../api/recoveryQueries";
import { keep, kept } from "../ui/kept";
import { clock, HOUR, MINUTE, minutesOf } from "../time/time";

/** What a planner asks of the day of the loss, as the browser keeps it. */
export interface Asked {
  lost: string[];
  machines: string[];
  /** Wall clock of the loss in the night on the week strip, and how much later it begins. */
  time: string;
  after: number;
  way: Way;
}

export const NOTHING_ASKED: Asked = {
  lost: [],
  machines: [],
  time: "02:00",
  after: 0,
  way: {
    begins: null,
    order: [],
    at_once: 2,
    instant: [],
    to_site: null,
    targets: {},
    goes_on: false,
  },
};

const keyOf = (plan: number) => `gambrel recovery ${plan}`;

function askedBefore(plan: number): Asked {
  const found = kept<Asked>(keyOf(plan));
  return found && Array.isArray(found.lost) && found.way
    ? { ...NOTHING_ASKED, ...found, way: { ...NOTHING_ASKED.way, ...found.way } }
    : NOTHING_ASKED;
}

/** What is asked of the day of the loss; it outlives another view, a reload and a closed tab. */
export function useAsked(plan: number) {
  const [asked, set] = useState(() => askedBefore(plan));
  const change = useCallback(
    (now: Asked) => {
      set(now);
      keep(keyOf(plan), now);
    },
    [plan],
  );
  return [asked, change] as const;
}

/** The instant of a wall clock time in a night that begins at noon, in ms. */
export function instantOf(nightStart: number, time: string, zone: string): number {
  const wanted = minutesOf(time);
  const first = nightStart + ((wanted - 12 * 60 + 24 * 60) % (24 * 60)) * MINUTE;
  // On the two nights of the year in which the clock is set, it is an hour earlier or later.
  return [first, first - HOUR, first + HOUR].find((at) => clock(at, zone) === time) ?? first;
}

export const iso = (at: number) => new Date(at).toISOString().replace(/\.000Z$/, "Z");

export function lossOf(asked: Asked, at: number): Loss {
  const named = (kind: string) =>
    asked.lost
      .filter((each) => each.startsWith(`${kind}:`))
      .map((each) => each.slice(kind.length + 1));
  return {
    at: iso(at),
    machines: asked.machines,
    hosts: named("hosts"),
    clusters: named("clusters"),
    sites: named("sites"),
    repositories: named("repositories"),
  };
}

export const isEmpty = (asked: Asked) => !asked.lost.length && !asked.machines.length;

/** An order in which a machine stands elsewhere among its tier. */
export function reordered(rows: readonly ComesBack[], machine: string, by: number): string[] {
  const order = rows.map((row) => row.machine);
  const tier = rows.find((row) => row.machine === machine)?.tier;
  const peers = rows.filter((row) => row.tier === tier).map((row) => row.machine);
  const place = peers.indexOf(machine);
  const other = peers[Math.min(peers.length - 1, Math.max(0, place + by))];
  if (!other || other === machine) return order;
  return placed(order, machine, other, by > 0);
}

/** An order in which a machine stands before another one, or after it. */
export function placed(
  order: readonly string[],
  machine: string,
  other: string,
  after: boolean,
): string[] {
  const without = order.filter((each) => each !== machine);
  const at = without.indexOf(other) + (after ? 1 : 0);
  return [...without.slice(0, at), machine, ...without.slice(at)];
}

/** The span that a recovery is drawn in: to its end, or to the last promise that is missed. */
export function spanOf(found: Recovery): [number, number] {
  const start = Date.parse(found.lost_at);
  const ends = [Date.parse(found.ends)];
  for (const row of found.machines)
    if (row.promise === "missed" && row.back) ends.push(Date.parse(row.promised_by!));
  const end = Math.max(...ends, start + HOUR);
  return [start, end + (end - start) * 0.04];
}

/** How far apart the marks of a time axis stand, in hours. */
export function hoursApart(from: number, to: number): number {
  const hours = (to - from) / HOUR;
  return [1, 2, 3, 6, 12, 24, 48].find((step) => hours / step <= 12) ?? 96;
}

/** How many of some machines are back at each instant: steps of [ms, count]. */
export function backOverTime(rows: readonly ComesBack[]): [number, number][] {
  const backs = rows
    .flatMap((row) => (row.back ? [Date.parse(row.back)] : []))
    .sort((a, b) => a - b);
  return backs.map((at, i) => [at, i + 1]);
}

const quoted = (value: string | number | null) => {
  const text = value === null ? "" : String(value);
  return /[",\n]/.test(text) ? `"${text.replaceAll('"', '""')}"` : text;
};

/** The page to work from, as CSV (RFC 4180). */
export function csvOf(found: Recovery): string {
  const head = [
    "order", "machine", "tier", "outcome", "job", "repository", "point", "points", "target",
    "method", "start", "back", "whole", "promised_by", "promise", "data_lost_s",
  ]; // prettier-ignore
  const lines = found.machines.map((row, i) => [
    i + 1,
    row.machine,
    row.tier,
    row.outcome,
    row.point?.job ?? null,
    row.point?.repository ?? null,
    row.point?.at ?? null,
    row.points,
    row.target,
    row.method,
    row.start,
    row.back,
    row.whole,
    row.promised_by,
    row.promise,
    row.exposure_s === null ? null : Math.round(row.exposure_s),
  ]);
  return [head, ...lines].map((line) => line.map(quoted).join(",")).join("\r\n") + "\r\n";
}

export const OUTCOMES: Record<ComesBack["outcome"], string> = {
  done: "back",
  "no point": "no point is left",
  "no path": "no route leads there",
  "cut off": "not whole after 30 days",
  "no target": "no host that is left has room for it",
};
