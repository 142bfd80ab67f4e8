import { describe, expect, it } from "vitest";
import type { Job, Night, Run } from "../api/client";
import {
  fittingSpan,
  lanesOf,
  shapeOf,
  shifted,
  troubleOf,
  valueAt,
  xOf,
  zoomed,
} from "./geometry";

const HOUR = 3_600_000;
const at = (hour: number) => new Date(Date.UTC(2026, 10, 6, hour)).toISOString();

function run(job: string, more: Partial<Run> = {}): Run {
  return {
    job,
    occurrence: at(20),
    kind: "full",
    runs_as: "full",
    synthetic: false,
    schedule: 0,
    outcome: "done",
    began: at(20),
    first_start: at(21),
    moved: at(23),
    ended: at(23),
    window_opens: at(20),
    window_end: at(30),
    over_s: 0,
    machines: 1,
    done: 1,
    source_bytes: 1,
    wire_bytes: 1,
    stored_bytes: 1,
    squeezes: [],
    proxies: [],
    ...more,
  };
}

function night(runs: Run[]): Night {
  return {
    start: at(12),
    end: at(36),
    run_list: runs,
    copies: [],
    loads: [],
    windows: runs.map((r) => ({ job: r.job, opens: at(20), closes: at(30) })),
  } as unknown as Night;
}

const jobs = ["a", "b", "c"].map((id) => ({ id, name: id }) as Job);

describe("lanesOf", () => {
  it("puts the worst first and idle jobs last", () => {
    const lanes = lanesOf(night([run("b"), run("c", { over_s: 60 })]), jobs, "trouble");
    expect(lanes.map((lane) => lane.job.id)).toEqual(["c", "b", "a"]);
  });
  it("sorts by size and by plan order", () => {
    const shown = night([run("a"), run("c", { source_bytes: 9 })]);
    expect(lanesOf(shown, jobs, "size").map((l) => l.job.id)).toEqual(["c", "a", "b"]);
    expect(lanesOf(shown, jobs, "plan").map((l) => l.job.id)).toEqual(["a", "c", "b"]);
  });
});

describe("troubleOf", () => {
  it("ranks over the window above missed above skipped above done", () => {
    const ranks = [
      run("a", { over_s: 1 }),
      run("a", { outcome: "missed", done: 0 }),
      run("a", { outcome: "skipped", machines: 0, done: 0 }),
      run("a"),
    ].map(troubleOf);
    expect([...ranks].sort((x, y) => y - x)).toEqual(ranks);
  });
});

describe("shapes", () => {
  it("tells a synthetic full from a full", () => {
    expect(shapeOf(run("a"))).toBe("full");
    expect(shapeOf(run("a", { synthetic: true }))).toBe("synthetic");
    expect(shapeOf(run("a", { runs_as: "differential" }))).toBe("differential");
  });
});

describe("spans", () => {
  const bounds = { from: 0, to: 24 * HOUR };
  it("shows the windows and what runs past them", () => {
    const span = fittingSpan(night([run("a", { ended: at(33), over_s: 3 * 3600 })]));
    expect(span.from).toBe(Date.parse(at(19)));
    expect(span.to).toBe(Date.parse(at(33)) + 1.5 * HOUR);
  });
  it("keeps the instant under the pointer in place while zooming", () => {
    const span = { from: 4 * HOUR, to: 12 * HOUR };
    const nearer = zoomed(span, 0.5, 6 * HOUR, bounds);
    const scale = (s: typeof span) => xOf({ ...s, width: 100 }, 6 * HOUR);
    expect(scale(nearer)).toBeCloseTo(scale(span));
  });
  it("never leaves the night", () => {
    expect(shifted({ from: 0, to: HOUR }, -5 * HOUR, bounds)).toEqual({ from: 0, to: HOUR });
    expect(zoomed({ from: 0, to: HOUR }, 1000, 0, bounds)).toEqual(bounds);
  });
});

describe("valueAt", () => {
  it("takes the step in force", () => {
    const steps: [number, number][] = [
      [10, 1],
      [20, 5],
    ];
    expect([5, 10, 19, 20, 99].map((t) => valueAt(steps, t))).toEqual([0, 1, 1, 5, 5]);
  });
});
