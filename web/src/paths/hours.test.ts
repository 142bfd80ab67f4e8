import { describe, expect, it } from "vitest";
import {
  daysInWords,
  HoursMistyped,
  intervalInWords,
  intervalsOf,
  isEven,
  paint,
  typedHours,
  WEEK,
  WEEKDAYS,
} from "./hours";

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

describe("typed hours", () => {
  const said = (text: string) =>
    intervalsOf(typedHours(text, true, false), false).map(intervalInWords);

  it("mean every day where no day is named", () => {
    expect(said("20:00-06:00")).toEqual(["every day 20:00 to 06:00"]);
    expect(said("20:00 to 06:00")).toEqual(["every day 20:00 to 06:00"]);
  });

  it("leave hours out, after midnight those of the night", () => {
    expect(said("00:00-24:00 except 16:00-17:00")).toEqual(["every day 17:00 to 16:00"]);
    expect(said("fri 20:00-06:00 except 01:00-02:00")).toEqual([
      "Fri 20:00 to 01:00",
      "Sat 02:00 to 06:00",
    ]);
  });

  it("name days, and several at once", () => {
    expect(said("mon-fri 20:00-06:00; sat, sun 12:00-18:00, 20:00-22:00")).toEqual([
      "Mon to Fri 20:00 to 06:00",
      "Sat, Sun 12:00 to 18:00",
      "Sat, Sun 20:00 to 22:00",
    ]);
    expect(said("Friday to Monday 20:00-21:00")[0]).toContain("20:00 to 21:00");
    expect(said("weekdays 08:00-09:00")).toEqual(["Mon to Fri 08:00 to 09:00"]);
  });

  it("say what cannot be read", () => {
    for (const text of [
      "every night",
      "20:00",
      "noday 20:00-21:00",
      "25:00-26:00",
      "20:07-21:00",
      "20:00-21:00 and more",
    ])
      // prettier-ignore
      expect(() => typedHours(text, true, false)).toThrow(HoursMistyped);
  });
});
