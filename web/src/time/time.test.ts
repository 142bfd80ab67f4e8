import { describe, expect, it } from "vitest";
import {
  addDays,
  clock,
  daysBetween,
  dateWords,
  dayClock,
  duration,
  durationAtLeast,
  hourTicks,
  millis,
  minutesOf,
  mondayOf,
  timeOf,
} from "./time";

describe("instants", () => {
  it("are shown in the zone that is asked for", () => {
    expect(clock("2026-07-01T20:00:00Z", "Europe/Dublin")).toBe("21:00");
    expect(dayClock("2026-11-06T23:30:00Z", "Europe/Oslo")).toBe("Sat 00:30");
    expect(millis("2026-11-06T00:00:00.500Z") % 1000).toBe(500);
    expect(millis(null)).toBeNull();
  });
});

describe("durations", () => {
  it("are said in the largest fitting units", () => {
    expect([0, 44.6, 59.6, 3_599, 3_600, 13_200].map(duration)).toEqual([
      "0 s",
      "45 s",
      "1 min",
      "1 h",
      "1 h",
      "3 h 40 min",
    ]);
  });
});

describe("dates", () => {
  it("count over the ends of months and clock changes", () => {
    expect(addDays("2026-10-24", 8)).toBe("2026-11-01");
    expect(daysBetween("2026-10-24", "2026-11-01")).toBe(8);
    expect(daysBetween("2026-11-08", "2026-11-06")).toBe(-2);
  });
  it("know their week and their words", () => {
    expect(["2026-11-02", "2026-11-06", "2026-11-08"].map(mondayOf)).toEqual(
      Array(3).fill("2026-11-02"),
    );
    expect(dateWords("2026-11-06")).toMatchObject({ short: "Fri", long: "Friday", day: "6" });
  });
});

describe("times of day", () => {
  it("wrap around midnight with the days they reach over", () => {
    expect(minutesOf("21:05")).toBe(1265);
    expect(timeOf(1265)).toEqual({ time: "21:05", days: 0 });
    expect(timeOf(1445)).toEqual({ time: "00:05", days: 1 });
    expect(timeOf(-10)).toEqual({ time: "23:50", days: -1 });
  });
});

describe("ticks", () => {
  it("fall on full hours of the local clock, also where the clock changes", () => {
    const from = Date.parse("2026-10-24T22:00:00Z");
    const ticks = hourTicks(from, from + 6 * 3_600_000, 1, "Europe/Dublin");
    expect(ticks.map((tick) => clock(tick, "Europe/Dublin"))).toEqual([
      "23:00",
      "00:00",
      "01:00",
      "01:00",
      "02:00",
      "03:00",
      "04:00",
    ]);
    expect(hourTicks(from, from + 6 * 3_600_000, 2, "UTC")).toHaveLength(4);
  });
});

describe("a margin", () => {
  it("is never told longer than it is", () => {
    expect(durationAtLeast(44 * 60 + 59)).toBe("44 min");
    expect(durationAtLeast(45 * 60)).toBe("45 min");
    expect(durationAtLeast(59.9)).toBe("59 s");
  });
});
