import { describe, expect, it } from "vitest";
import type { MonthAhead, RepositoryLife, Runway } from "../api/runwayQueries";
import {
  bandPath,
  ceilingOf,
  dateOf,
  instantOfPart,
  monthWords,
  peaksByMonth,
  placeOf,
  stacked,
  stepPath,
} from "./axis";
import { isFor, reasonWords, windowSentence } from "./NightsAhead";

const life = (some: Partial<RepositoryLife> = {}): RepositoryLife => ({
  id: "vault",
  site: "quay",
  capacity_gib: 100,
  immutable_days: 0,
  full_at: null,
  feared_full_at: null,
  now_gib: 10,
  peak_gib: 40,
  peak_at: "2027-02-01T00:00:00Z",
  gib: [10, 20, 30, 40],
  feared_gib: [],
  jobs: [
    { job: "a", name: "A", copies: false, gib: [6, 12, 18, 24] },
    { job: "b", name: "B", copies: true, gib: [4, 8, 12, 16] },
  ],
  rest_gib: [0, 0, 0, 0],
  chained_gib: [0, 0, 0, 0],
  immutable_gib: [0, 0, 0, 0],
  volumes: [],
  tiers: [],
  ...some,
});

const runway = {
  start: "2026-11-01T00:00:00Z",
  end: "2027-03-01T00:00:00Z",
  months: [
    { name: "2026-11", start: "2026-11-01T00:00:00Z" },
    { name: "2026-12", start: "2026-12-01T00:00:00Z" },
    { name: "2027-01", start: "2027-01-01T00:00:00Z" },
    { name: "2027-02", start: "2027-02-01T00:00:00Z" },
  ],
} as Runway;

describe("the panels of space", () => {
  it("stack the jobs up to the whole, the rest on top", () => {
    const parts = stacked(life({ rest_gib: [0, 0, 1, 1] }));
    expect(parts.map((part) => part.key)).toEqual(["a", "b", ""]);
    expect(parts[0]!.above).toEqual(parts[1]!.below);
    expect(parts[1]!.above).toEqual([10, 20, 30, 40]);
    expect(parts[2]!.above).toEqual([10, 20, 31, 41]);
    expect(stacked(life())).toHaveLength(2);
  });

  it("draw steps: each part level, from its beginning to its end", () => {
    expect(stepPath([1, 2], (v) => 10 - v)).toBe("M0 9.0H500.0V8.0H1000.0");
    expect(bandPath([0, 0], [1, 2], (v) => 10 - v)).toBe(
      "M0 9.0H500.0V8.0H1000.0V10.0H500.0V10.0H0.0Z",
    );
  });

  it("reach above the roof, but not far above it", () => {
    expect(ceilingOf(life())).toBeGreaterThan(100);
    expect(ceilingOf(life({ gib: [500, 900] }))).toBeLessThan(150);
    expect(ceilingOf(life({ capacity_gib: null }))).toBeCloseTo(43.2);
    expect(ceilingOf(life({ feared_gib: [120, 110] }))).toBeCloseTo(129.6);
  });

  it("place instants between the ends, and name days and months of the zone", () => {
    expect(placeOf(runway, "2026-01-01T00:00:00Z")).toBe(0);
    expect(placeOf(runway, "2030-01-01T00:00:00Z")).toBe(1);
    expect(placeOf(runway, instantOfPart(runway, 1, 4))).toBeCloseTo(0.375);
    expect(dateOf("2027-06-30T23:30:00Z", "Europe/Oslo")).toBe("2027-07-01");
    expect(monthWords("2027-03")).toBe("Mar 2027");
  });

  it("say the most of each month", () => {
    expect(peaksByMonth(runway, life()).map((each) => each.gib)).toEqual([10, 20, 30, 40]);
  });
});

const month = (name: string, verdict: string, some = {}): MonthAhead =>
  ({
    month: name,
    nights: 30,
    verdict,
    windows: [
      {
        window: "night",
        verdict,
        nights_over: verdict === "over" ? 4 : 0,
        first_over: verdict === "over" ? `${name}-05` : null,
        worst: verdict === "fits" ? null : `${name}-05`,
        over_s: 600,
        not_done: 0,
        reason:
          verdict === "fits"
            ? null
            : {
                kind: "over the window",
                job: "files",
                seconds: 600,
                machines: 0,
                squeeze: "proxy:p1",
                waited_for: null,
              },
        ...some,
      },
    ],
  }) as MonthAhead;

describe("the nights ahead in words", () => {
  const nameOf = (job: string) => (job === "files" ? "File servers" : job);

  it("name the month, the first night and the cause", () => {
    const told = windowSentence(
      "night",
      [month("2027-01", "fits"), month("2027-02", "over"), month("2027-03", "over")],
      nameOf,
    );
    expect(told).toBe(
      "Window night stops to hold: 4 nights over in Feb 2027, the first on Fri 5 Feb 2027. " +
        "File servers ends 10 min late, proxy p1.",
    );
  });

  it("say what holds, what gets tight, and what holds again", () => {
    const [fits, tight] = [month("2027-01", "fits"), month("2027-02", "tight")];
    expect(windowSentence("night", [fits], nameOf)).toBe("Window night holds through Jan 2027.");
    expect(windowSentence("night", [fits, tight], nameOf)).toContain("it gets tight in Feb 2027");
    const now = windowSentence("night", [month("2027-01", "over"), fits], nameOf);
    expect(now).toContain("does not hold now");
    expect(now).toContain("it holds again");
  });

  it("tell each kind of trouble", () => {
    const of = (kind: string, more = {}) =>
      reasonWords(
        {
          reason: {
            kind,
            job: "x",
            seconds: 60,
            machines: 3,
            squeeze: null,
            waited_for: null,
            ...more,
          },
        } as never,
        nameOf,
      );
    expect(of("missed")).toBe("x: 3 machines missed");
    expect(of("skipped")).toBe("a run of x is skipped");
    expect(of("close to the end")).toBe("x ends 1 min before its window");
    expect(of("cut off", { waited_for: "slots:proxy:p1" })).toContain("slots of proxy p1");
  });

  it("are those of the question that was asked", () => {
    const ahead = { months: 12, feared_growth: null, provisioned_grows: true };
    const asked = { ...ahead, draft: null };
    expect(isFor({ asked }, null, ahead)).toBe(true);
    expect(isFor({ asked }, { id: 3 }, ahead)).toBe(false);
    expect(isFor({ asked }, null, { ...ahead, feared_growth: 0.3 })).toBe(false);
  });
});
