import { describe, expect, it } from "vitest";
import type { Bought } from "../api/balanceQueries";
import { boughtWords, priceWords } from "./ToBuy";

const item = (words: string, price: number | null = null, monthly = false) =>
  ({ words, price, monthly, operations: [] }) as unknown as Bought["items"][number];

describe("what to buy", () => {
  it("says that nothing has to be bought, or that nothing helps", () => {
    expect(boughtWords({ items: [], fits: true })).toBe("nothing, every night fits.");
    expect(boughtWords({ items: [], fits: false })).toBe(
      "nothing that can be bought makes every night fit.",
    );
  });

  it("names all that has to be bought, and whether it is enough", () => {
    const items = [item("2 more slots at quay-p2"), item("1 more proxy like hill-p1")];
    const both = "2 more slots at quay-p2; 1 more proxy like hill-p1";
    expect(boughtWords({ items, fits: true })).toBe(`${both}.`);
    expect(boughtWords({ items, fits: false })).toBe(
      `${both} would help, but not every night would fit.`,
    );
  });

  it("adds prices up, once and by the month, and says what has none", () => {
    expect(priceWords([item("a", 1200), item("b", 300)])).toBe("1,500 once.");
    expect(priceWords([item("a", 1200), item("b", 80, true)])).toBe("1,200 once and 80 a month.");
    expect(priceWords([item("a", 5), item("b")])).toBe("5 once, the rest without a price.");
    expect(priceWords([item("a")])).toBe("");
  });
});
