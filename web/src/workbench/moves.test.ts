import { describe, expect, it } from "vitest";
import type { Job } from "../api/client";
import { type Move, operationsOf, whyFixed, withMove } from "./moves";

const job = {
  id: "office",
  name: "Office",
  locked: false,
  after: null,
  schedules: [{ position: 0, kind: "full", start_time: "23:30", every_weeks: 1 }],
} as unknown as Job;
const jobs = new Map([["office", job]]);
const nudge = (minutes: number): Move => ({ type: "start", job: "office", schedule: 0, minutes });

describe("withMove", () => {
  it("joins nudges of one schedule into one move", () => {
    expect(withMove([nudge(5)], nudge(5))).toEqual([nudge(10)]);
  });
  it("forgets a move that was taken back", () => {
    expect(withMove([nudge(5)], nudge(-5))).toEqual([]);
    expect(
      withMove([{ type: "lock", job: "office", locked: true }], {
        type: "lock",
        job: "office",
        locked: false,
      }),
    ).toEqual([]);
  });
  it("keeps moves of different kinds apart", () => {
    const full: Move = { type: "full", job: "office", schedule: 0, days: 1, everyWeeks: 1 };
    expect(withMove([nudge(5)], full)).toEqual([nudge(5), full]);
  });
  it("takes seven days for none", () => {
    const full = (days: number): Move => ({
      type: "full",
      job: "office",
      schedule: 0,
      days,
      everyWeeks: 1,
    });
    expect(withMove([full(6)], full(1))).toEqual([]);
    const every2 = (days: number): Move => ({ ...full(days), everyWeeks: 2 }) as Move;
    expect(withMove([every2(6)], every2(1))).toEqual([every2(7)]);
    expect(withMove([every2(13)], every2(1))).toEqual([]);
  });
});

describe("operationsOf", () => {
  it("writes the time of day that the start moves to", () => {
    expect(operationsOf([nudge(-90)], jobs)).toEqual([
      { operation: "MoveStart", job: "office", schedule: 0, start_time: "22:00", day_shift: 0 },
    ]);
  });
  it("shifts the day where a start goes over midnight", () => {
    expect(operationsOf([nudge(45)], jobs)).toEqual([
      { operation: "MoveStart", job: "office", schedule: 0, start_time: "00:15", day_shift: 1 },
    ]);
  });
  it("counts a second move of a schedule from where the first left it", () => {
    const full: Move = { type: "full", job: "office", schedule: 0, days: 1, everyWeeks: 1 };
    const made = operationsOf([nudge(45), full, nudge(-30)], jobs);
    expect(made.at(-1)).toEqual({
      operation: "MoveStart",
      job: "office",
      schedule: 0,
      start_time: "23:45",
      day_shift: -1,
    });
  });
});

describe("whyFixed", () => {
  it("says why a run stays where it is", () => {
    expect(whyFixed(job, 0)).toBeNull();
    expect(whyFixed({ ...job, locked: true }, 0)).toContain("locked");
    expect(whyFixed({ ...job, after: "mail" }, null)).toContain("follows mail");
  });
});
