import { describe, expect, it } from "vitest";
import { typedNumber } from "./numbers";
import sizes from "../../../tests/sizes.json";
import { amount, bytes, count, gib, keyWords, percent, resource, weeksOf } from "./words";

describe("sizes, rates and counts on the screen", () => {
  it("chooses the unit in which a size reads best", () => {
    expect(bytes(3 * 2 ** 20)).toBe("3 MiB");
    // The server writes them alike: its tests read the same cases.
    for (const [size, said] of sizes as [number, string][]) expect(gib(size)).toBe(said);
    expect(gib(1.25)).toBe("1.3 GiB");
    expect(gib(812.4)).toBe("812 GiB");
    expect(gib(8 * 1024)).toBe("8 TiB");
  });

  it("says rates and slots as the trade does", () => {
    expect(amount(1600, "Mbit/s")).toBe("1.6 Gbit/s");
    expect(amount(400, "Mbit/s")).toBe("400 Mbit/s");
    expect(amount(1, "slots")).toBe("1 slot");
    expect(amount(8, "slots")).toBe("8 slots");
    expect(amount(7.25, "MiB/s")).toBe("7.3 MiB/s");
  });

  it("counts with the noun", () => {
    expect(count(1, "proxy")).toBe("1 proxy");
    expect(count(2, "proxy")).toBe("2 proxies");
    expect(count(0, "machine")).toBe("0 machines");
    expect(percent(0.655)).toBe("66 %");
  });

  it("names loads shortly", () => {
    expect(resource("slots:proxy:quay-p2")).toBe("slots of proxy quay-p2");
    expect(resource("link:quay-hill")).toBe("link quay-hill");
    expect(resource("server_disk:gate/system")).toBe("disk gate/system");
    expect(resource("repository_read:vault")).toBe("reading from vault");
  });

  it("takes numbers with a point or a comma, and nothing else", () => {
    expect(typedNumber(" 7,5 ")).toBe(7.5);
    expect(typedNumber("7.5")).toBe(7.5);
    for (const text of ["", " ", "7,5,5", "many", "7 GiB"]) expect(typedNumber(text)).toBeNaN();
  });
});

describe("keys and chances", () => {
  it("tells a key without its path, with its unit", () => {
    expect(keyWords("operations[0].changes.limits[2].mbit_per_s")).toBe("rate (Mbit/s)");
    expect(keyWords("operations[0].changes.limit_mbit_per_s")).toBe("limit (Mbit/s)");
    expect(keyWords("machines.ids[0]")).toBe("machines by name");
    expect(keyWords("rpo_hours")).toBe("RPO (h)");
    expect(keyWords("at_window_end")).toBe("at window end");
  });

  it("tells a chance in weeks", () => {
    expect(weeksOf(0.974)).toBe("97 of 100 weeks");
    expect(weeksOf(0)).toBe("no week");
    expect(weeksOf(1)).toBe("every week");
  });
});
