import { describe, expect, it } from "vitest";
import {
  bestStarts,
  changesOf,
  excluding,
  firstCondition,
  including,
  isComplete,
  moved,
} from "./value";

const RULED = { ids: ["a"], rules: [[{ field: "folder", op: "is", value: "x" }]], exclude: [] };

describe("the value of a job while it is edited", () => {
  it("tells only what is new", () => {
    const saved = { priority: 3, retention: { days: 5 }, name: "Mail" };
    expect(changesOf(saved, { priority: 3, retention: { days: 6 } })).toEqual({
      retention: { days: 6 },
    });
  });

  it("leaves a machine out by name, and takes it in again", () => {
    const out = excluding(RULED, "a", true);
    expect(out).toMatchObject({ ids: [], exclude: ["a"] });
    expect(including(out, "a")).toMatchObject({ ids: ["a"], exclude: [] });
    expect(excluding({ ...RULED, rules: [] }, "a", true).exclude).toEqual([]);
    expect(including(RULED, "a").ids).toEqual(["a"]);
  });

  it("moves an entry of a list, never out of it", () => {
    expect(moved(["a", "b", "c"], 2, 0)).toEqual(["c", "a", "b"]);
    expect(moved(["a", "b", "c"], 0, 9)).toEqual(["b", "c", "a"]);
    expect(moved(["a"], 4, 0)).toEqual(["a"]);
  });

  it("names starts that lie apart, the best first", () => {
    const at = (hour: number, rank: number) => ({
      at: `2026-11-06T${String(hour).padStart(2, "0")}:00:00Z`,
      rank,
    });
    const found = bestStarts([at(1, 3), at(2, 1), at(3, 2), at(8, 4), at(12, 9)]);
    expect(found.map((s) => s.rank)).toEqual([1, 4, 9]);
  });

  it("begins a condition with an operator that its field has", () => {
    expect(firstCondition("tag", { tag: ["has", "has_not"] })).toEqual({
      field: "tag",
      op: "has",
      value: "",
    });
    expect(firstCondition("used_gib", { used_gib: ["at_least"] }).value).toBe(100);
    expect(firstCondition("powered_on", { powered_on: ["is"] }).value).toBe(true);
  });

  it("knows a rule that is not finished", () => {
    expect(isComplete(RULED)).toBe(true);
    expect(isComplete({ ...RULED, rules: [[{ field: "tag", op: "has", value: "" }]] })).toBe(false);
    expect(isComplete({ ...RULED, rules: [[]] })).toBe(false);
  });
});
