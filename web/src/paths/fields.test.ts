import { describe, expect, it } from "vitest";
import { changesOf, FIELDS, type FieldSpec, Mistyped, shownValue, typedValue } from "./fields";
import type { Item } from "../api/pathQueries";

const spec = (list: keyof typeof FIELDS, key: string) =>
  FIELDS[list].find((field) => field.key === key) as FieldSpec;

describe("what is typed into the fields of an item", () => {
  it("takes decimal commas, and empty for no limit where there may be none", () => {
    expect(typedValue(spec("proxies", "mib_per_s"), "720,5")).toBe(720.5);
    expect(typedValue(spec("proxies", "mib_per_s"), " ")).toBeNull();
    expect(() => typedValue(spec("proxies", "slots"), "")).toThrow(Mistyped);
    expect(() => typedValue(spec("proxies", "slots"), "many")).toThrow(Mistyped);
  });

  it("shows a factor as a percentage and takes it back", () => {
    const factor = spec("links", "encryption_factor");
    expect(shownValue(factor, 0.85)).toBe("85");
    expect(typedValue(factor, "85")).toBe(0.85);
  });

  it("reads volumes of a pool by name and size", () => {
    const volumes = spec("repositories", "volumes");
    const value = [
      { id: "shelf 1", capacity_gib: 1000 },
      { id: "b", capacity_gib: 500.5 },
    ];
    expect(typedValue(volumes, "shelf 1 1000; b 500,5;")).toEqual(value);
    expect(typedValue(volumes, shownValue(volumes, value))).toEqual(value);
    expect(() => typedValue(volumes, "only-a-name")).toThrow(Mistyped);
  });

  it("reads tiers by name, age and what else is said of them", () => {
    const tiers = spec("repositories", "tiers");
    const text =
      "deep shelf from 90 days, least 180, price 2.5, reading 12, waits 240; far from 400";
    const value = typedValue(tiers, text);
    expect(value).toEqual([
      {
        id: "deep shelf",
        after_days: 90,
        minimum_days: 180,
        price_per_tib_month: 2.5,
        read_price_per_tib: 12,
        delay_min: 240,
      },
      { id: "far", after_days: 400 },
    ]);
    expect(typedValue(tiers, shownValue(tiers, value))).toEqual(value);
    expect(typedValue(tiers, "")).toEqual([]);
    expect(() => typedValue(tiers, "shelf")).toThrow(Mistyped);
    expect(() => typedValue(tiers, "shelf from 9 days, costs 3")).toThrow(Mistyped);
  });

  it("keeps only what differs", () => {
    const item = { value: { slots: 8, cores: null, direct_datastores: ["a"] } } as unknown as Item;
    expect(changesOf(item, { slots: 8, cores: null, direct_datastores: ["a"] })).toEqual({});
    expect(changesOf(item, { slots: 9, direct_datastores: [] })).toEqual({
      slots: 9,
      direct_datastores: [],
    });
  });
});
