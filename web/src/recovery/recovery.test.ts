import { describe, expect, it } from "vitest";
import type { ComesBack, MachinePoint, Recovery } from "../api/recoveryQueries";
import {
  backOverTime,
  csvOf,
  hoursApart,
  instantOf,
  isEmpty,
  lossOf,
  NOTHING_ASKED,
  placed,
  reordered,
  spanOf,
} from "./asked";
import { fallenWith, keyOf, newestGood } from "./chains";

const row = (machine: string, tier: string, back: string | null, more = {}): ComesBack => ({
  machine,
  tier,
  target: null,
  as_vm: false,
  method: "full",
  outcome: back ? "done" : "no point",
  point: back ? { job: "j", repository: "r", at: "2026-11-06T20:00:00Z" } : null,
  points: back ? 1 : null,
  start: back,
  ready: back,
  back,
  whole: back,
  read_bytes: 1,
  written_bytes: 1,
  limited_by: null,
  limited_s: null,
  exposure_s: back ? 3600 : null,
  rpo_met: null,
  promised_by: null,
  promise: "none",
  late_s: null,
  ...more,
});

const ROWS = [
  row("a", "gold", "2026-11-07T03:00:00Z"),
  row("x", "silver", "2026-11-07T05:00:00Z"),
  row("b", "gold", "2026-11-07T02:30:00Z"),
  row("c", "gold", null),
];

const recovery = (machines: ComesBack[]): Recovery => ({
  words: 'cluster "a", b',
  lost_at: "2026-11-07T02:00:00Z",
  begins: "2026-11-07T02:00:00Z",
  ends: "2026-11-07T05:00:00Z",
  time_zone: "Europe/Dublin",
  hosts_left: [],
  machines,
  tiers: [],
  loads: [],
  copies_missing: [],
});

describe("the time of a loss", () => {
  const noon = Date.parse("2026-11-06T12:00:00Z");
  it("is found in the night, before and after midnight", () => {
    expect(instantOf(noon, "22:15", "Europe/Dublin")).toBe(Date.parse("2026-11-06T22:15:00Z"));
    expect(instantOf(noon, "02:00", "Europe/Dublin")).toBe(Date.parse("2026-11-07T02:00:00Z"));
  });
  it("is the wall clock's in a night in which the clock is set", () => {
    const start = Date.parse("2026-10-24T11:00:00Z");
    expect(instantOf(start, "06:00", "Europe/Dublin")).toBe(Date.parse("2026-10-25T06:00:00Z"));
    const spring = Date.parse("2026-03-28T12:00:00Z");
    expect(instantOf(spring, "06:00", "Europe/Dublin")).toBe(Date.parse("2026-03-29T05:00:00Z"));
  });
});

describe("what is lost", () => {
  it("lists names by kind", () => {
    const asked = { ...NOTHING_ASKED, lost: ["sites:quay", "hosts:a:b"], machines: ["m"] };
    const loss = lossOf(asked, Date.parse("2026-11-07T02:00:00Z"));
    expect(loss).toMatchObject({ sites: ["quay"], hosts: ["a:b"], machines: ["m"], clusters: [] });
    expect(loss.at).toBe("2026-11-07T02:00:00Z");
    expect(isEmpty(asked)).toBe(false);
    expect(isEmpty(NOTHING_ASKED)).toBe(true);
  });
});

describe("an order", () => {
  it("moves a machine among its tier and past others", () => {
    expect(reordered(ROWS, "b", -1)).toEqual(["b", "a", "x", "c"]);
    expect(reordered(ROWS, "a", 1)).toEqual(["x", "b", "a", "c"]);
    expect(reordered(ROWS, "c", -99)).toEqual(["c", "a", "x", "b"]);
  });
  it("stays where there is nowhere to go", () => {
    expect(reordered(ROWS, "x", 1)).toEqual(["a", "x", "b", "c"]);
    expect(reordered(ROWS, "a", -1)).toEqual(["a", "x", "b", "c"]);
  });
  it("puts one before or after another", () => {
    expect(placed(["a", "b", "c"], "c", "a", false)).toEqual(["c", "a", "b"]);
    expect(placed(["a", "b", "c"], "a", "b", true)).toEqual(["b", "a", "c"]);
  });
});

describe("the picture", () => {
  it("counts what is back over time", () => {
    expect(backOverTime(ROWS).map(([, n]) => n)).toEqual([1, 2, 3]);
    expect(backOverTime(ROWS)[0]![0]).toBe(Date.parse("2026-11-07T02:30:00Z"));
  });
  it("reaches to a promise that is missed", () => {
    const late = row("l", "gold", "2026-11-07T04:00:00Z", {
      promise: "missed",
      promised_by: "2026-11-07T06:00:00Z",
    });
    const [from, to] = spanOf(recovery([late]));
    expect(from).toBe(Date.parse("2026-11-07T02:00:00Z"));
    expect(to).toBeGreaterThan(Date.parse("2026-11-07T06:00:00Z"));
  });
  it("has a dozen marks of time at most", () => {
    for (const hours of [1, 11, 30, 100, 400])
      expect((hours * 3_600_000) / (hoursApart(0, hours * 3_600_000) * 3_600_000)).toBeLessThan(13);
  });
});

it("the page to work from is CSV with quoted cells", () => {
  const odd = row('m "1", x', "gold", "2026-11-07T03:00:00Z");
  const lines = csvOf(recovery([odd, row("n", "gold", null)])).split("\r\n");
  expect(lines[0]!.startsWith("order,machine,tier")).toBe(true);
  expect(lines[1]).toContain('1,"m ""1"", x",gold,done');
  expect(lines[2]).toContain("2,n,gold,no point,,");
  expect(lines).toHaveLength(4);
});

const point = (at: string, base: string | null, more = {}): MachinePoint => ({
  job: "j",
  repository: "r",
  kind: base ? "incremental" : "full",
  at,
  base_at: base,
  stored_bytes: 1,
  kept_by: [],
  carries: 0,
  cold: false,
  chain_points: 1,
  chain_bytes: 1,
  usable: true,
  exists: true,
  bad_since: null,
  verified_at: null,
  checks: [],
  way: {
    read_bytes: 1,
    written_bytes: 1,
    full_s: 10,
    instant_s: 1,
    files_s: 1,
    limited_by: null,
    disks: [],
  },
  ...more,
});

describe("a bad point", () => {
  const chain = [point("1", null), point("2", "1"), point("3", "2"), point("4", null)];
  const copy = point("3", "2", { repository: "other" });
  it("takes with it what needs it, in its own chain only", () => {
    expect(fallenWith([...chain, copy], chain[1]!)).toEqual(
      new Set([keyOf(chain[1]!), keyOf(chain[2]!)]),
    );
    expect(fallenWith(chain, chain[3]!).size).toBe(1);
  });
  it("leaves the newest that can be used, of two alike the quicker", () => {
    expect(newestGood(chain, new Set([keyOf(chain[3]!)]))).toBe(chain[2]);
    const quick = point("3", "2", { repository: "other", way: { ...copy.way, full_s: 5 } });
    expect(newestGood([...chain.slice(0, 3), quick], new Set())).toBe(quick);
    expect(newestGood([point("1", null, { usable: false })], new Set())).toBeNull();
  });
});
