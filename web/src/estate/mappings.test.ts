// @vitest-environment jsdom
import { beforeEach, describe, expect, it } from "vitest";
import { fitting, keepMapping, keptMappings, sameColumns } from "./mappings";

describe("mappings of imports", () => {
  beforeEach(() => localStorage.clear());

  it("are kept by plan and name", () => {
    keepMapping(1, "monthly list", { mapping: { name: "VM" }, unit: "GiB" });
    keepMapping(1, "lab", { mapping: { name: "box" }, unit: "MiB" });
    expect(Object.keys(keptMappings(1))).toEqual(["monthly list", "lab"]);
    expect(keptMappings(2)).toEqual({});
  });

  it("survive what is no mapping", () => {
    localStorage.setItem("gambrel import mappings of plan 1", "{");
    expect(keptMappings(1)).toEqual({});
  });

  it("fit a file by its columns", () => {
    expect(fitting({ name: "VM", host: "node" }, ["VM", "size"])).toEqual({ name: "VM" });
    expect(sameColumns(["a", "b"], ["b", "a"])).toBe(true);
    expect(sameColumns(["a"], ["a", "b"])).toBe(false);
  });
});
