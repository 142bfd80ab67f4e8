import { describe, expect, test } from "vitest";
import { clockAfterNoon, hoursAfterNoon } from "./Rehearsal";

describe("a time of the night", () => {
  test("is counted from noon, through midnight", () => {
    expect(hoursAfterNoon("12:00")).toBe(0);
    expect(hoursAfterNoon("22:30")).toBe(10.5);
    expect(hoursAfterNoon("01:00")).toBe(13);
    for (const text of ["25:00", "8", "22:61", "", "late"]) expect(hoursAfterNoon(text)).toBeNull();
  });

  test("reads back as a clock time", () => {
    for (const text of ["12:00", "22:30", "01:00", "11:59"])
      expect(clockAfterNoon(hoursAfterNoon(text)!)).toBe(text);
  });
});
