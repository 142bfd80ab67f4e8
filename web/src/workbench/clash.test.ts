import { describe, expect, it } from "vitest";
import type { Operation } from "../api/client";
import { kept } from "./clash";

const change = (changes: Record<string, unknown>): Operation => ({
  operation: "ChangeItem",
  list: "jobs",
  id: "mail",
  changes,
});
const conflict = (index: number, key: string | null) => ({
  index,
  key,
  list: "jobs",
  id: "mail",
  field: key ?? "",
  theirs: [],
});

describe("merging one's own edits with those of others", () => {
  const yours = [
    change({ priority: 4, window: "night" }),
    { operation: "SetLocked", job: "mail", locked: true },
  ];

  it("keeps all where nothing meets", () => {
    expect(kept({ yours, conflicts: [] }, new Set())).toEqual(yours);
  });

  it("leaves a field to the others and keeps the rest", () => {
    const found = kept({ yours, conflicts: [conflict(0, "priority")] }, new Set());
    expect(found).toEqual([change({ window: "night" }), yours[1]]);
  });

  it("keeps a field that is claimed", () => {
    expect(kept({ yours, conflicts: [conflict(0, "priority")] }, new Set([0]))).toEqual(yours);
  });

  it("drops what has nothing left, and whole operations", () => {
    const conflicts = [conflict(0, "priority"), conflict(0, "window"), conflict(1, null)];
    expect(kept({ yours, conflicts }, new Set())).toEqual([]);
    expect(kept({ yours, conflicts }, new Set([2]))).toEqual([yours[1]]);
  });
});
