import { describe, expect, it } from "vitest";
import { daysInWords, intervalsOf, isEven, paint, WEEK, WEEKDAYS } from "./hours";

const open = (days: string[], from: string, to: string) => ({ days, from, to, value: true });
const there = (cells: boolean[]) => cells.filter(Boolean).length;
const painted = (...intervals: ReturnType<typeof open>[]) => paint(intervals, false, () => true);

describe("weekly hours", () => {
  it("paints an interval that crosses midnight into the next day", () => {
    const cells = painted(open(["sun"], "22:00", "02:00"));
    expect(there(cells)).toBe(16);
    expect(cells[0]).toBe(true);
    expect(cells[WEEK - 1]).toBe(true);
  });

  it("reads back what was painted", () => {
    for (const intervals of [
      [open(WEEKDAYS, "20:00", "06:00")],
      [open(["mon", "tue"], "00:00", "00:00")],
      [open(["sat"], "12:15", "12:30"), open(["sun"], "23:45", "00:15")],
      [],
    ]) {
      const cells = painted(...intervals);
      expect(painted(...(intervalsOf(cells, false) as ReturnType<typeof open>[]))).toEqual(cells);
    }
    expect(intervalsOf(painted(open(WEEKDAYS, "20:00", "06:00")), false)).toEqual([
      open(WEEKDAYS, "20:00", "06:00"),
    ]);
  });

  it("makes a week without a gap seven whole days", () => {
    const cells = painted(open(WEEKDAYS, "00:00", "00:00"));
    expect(intervalsOf(cells, false)).toEqual([open(WEEKDAYS, "00:00", "00:00")]);
  });

  it("keeps different values apart and the smaller where two meet", () => {
    const cells = paint(
      [
        { days: ["mon"], from: "08:00", to: "10:00", value: 400 },
        { days: ["mon"], from: "09:00", to: "11:00", value: 100 },
      ],
      null as number | null,
      (a, b) => Math.min(a ?? Infinity, b ?? Infinity),
    );
    expect(intervalsOf(cells, null).map((i) => [i.from, i.to, i.value])).toEqual([
      ["08:00", "09:00", 400],
      ["09:00", "11:00", 100],
    ]);
  });

  it("says days in words", () => {
    expect(daysInWords(["fri", "mon", "tue", "wed", "thu"])).toBe("Mon to Fri");
    expect(daysInWords(["sun", "sat"])).toBe("Sat, Sun");
    expect(daysInWords(WEEKDAYS)).toBe("every day");
    expect(daysInWords(["mon", "wed", "thu"])).toBe("Mon, Wed, Thu");
  });

  it("notices times between the quarters", () => {
    expect(isEven([open(["mon"], "20:00", "06:15")])).toBe(true);
    expect(isEven([open(["mon"], "20:10", "06:15")])).toBe(false);
  });
});
