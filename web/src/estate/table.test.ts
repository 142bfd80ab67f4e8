import { longDate } from "../time/time";
import { describe, expect, it } from "vitest";
import { COLUMNS, FIRST_COLUMNS, linesOf } from "./MachineTable";
import { since } from "./words";

const group = (name: string, machines: number) => ({
  name,
  machines,
  used_gib: 0,
  not_protected: 0,
});

describe("lines of the table of machines", () => {
  it("is one line a machine without groups", () => {
    expect(linesOf(3, [], new Set())).toEqual([0, 1, 2].map((index) => ({ kind: "row", index })));
    expect(linesOf(0, [], new Set())).toEqual([]);
  });

  it("puts a line before each group and keeps the numbers of rows when a group is folded", () => {
    const groups = [group("a", 2), group("b", 1)];
    const open = linesOf(3, groups, new Set());
    expect(open.map((line) => (line.kind === "row" ? line.index : line.group.name))).toEqual([
      "a",
      0,
      1,
      "b",
      2,
    ]);
    const folded = linesOf(3, groups, new Set(["a"]));
    expect(folded.map((line) => (line.kind === "row" ? line.index : line.group.name))).toEqual([
      "a",
      "b",
      2,
    ]);
  });

  it("offers every column once, the first ones among them", () => {
    const ids = COLUMNS.map((column) => column.id);
    expect(new Set(ids).size).toBe(ids.length);
    for (const id of FIRST_COLUMNS) expect(ids).toContain(id);
  });
});

describe("dates of the estate", () => {
  it("says how long ago in the unit that fits", () => {
    expect(since("2026-11-05", "2026-11-06")).toBe("1 day");
    expect(since("2026-10-20", "2026-11-06")).toBe("17 days");
    expect(since("2026-10-01", "2026-11-06")).toBe("5 weeks");
    expect(since("2026-05-07", "2026-11-06")).toBe("6 months");
    expect(since("2023-11-06", "2026-11-06")).toBe("3 years");
    expect(since("2026-11-08", "2026-11-06")).toBe("0 days");
    expect(longDate("2026-08-20")).toBe("20 Aug 2026");
  });
});
