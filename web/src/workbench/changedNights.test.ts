import { describe, expect, it } from "vitest";
import type { NightSummary } from "../api/client";
import { changedNights, isSeen, nightLine } from "./changedNights";

const ZONE = "Europe/Dublin";
const night = (date: string, verdict: string, last_end: string | null, forecast = true) =>
  ({ date, verdict, last_end, forecast }) as unknown as NightSummary;

describe("nights that change", () => {
  const fri = night("2026-11-06", "tight", "2026-11-07T05:42:00Z");

  it("says when a night ends, by how much it moved and what it turned into", () => {
    const later = night("2026-11-06", "over", "2026-11-07T06:12:00Z");
    expect(changedNights([fri], [later], ZONE)).toEqual([
      "Fri ends 06:12, 30 min later; tight becomes over",
    ]);
    expect(changedNights([later], [fri], ZONE)).toEqual([
      "Fri ends 05:42, 30 min earlier; over becomes tight",
    ]);
  });

  it("leaves out what nobody would see, and nights without a forecast", () => {
    const same = night("2026-11-06", "tight", "2026-11-07T05:42:10Z");
    expect(changedNights([fri], [same], ZONE)).toEqual([]);
    expect(changedNights([night("2026-11-06", "over", null, false)], [fri], ZONE)).toEqual([]);
  });

  it("tells a verdict that turns although the night ends as before", () => {
    const change = {
      date: "2026-11-06",
      verdict_before: "tight",
      verdict_after: "fits",
      end_before: fri.last_end,
      end_after: fri.last_end,
    };
    expect(isSeen(change)).toBe(true);
    expect(nightLine(change, ZONE)).toBe("Fri ends 05:42, as before; tight becomes fits");
    expect(nightLine({ ...change, end_after: null }, ZONE)).toBe(
      "Fri: other runs; tight becomes fits",
    );
  });
});
