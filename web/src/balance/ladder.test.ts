import { describe, expect, test } from "vitest";
import { chanceWords, lossWords } from "./Ladder";
import { requestOf, USUAL } from "./settings";

const loss = (words: string, fits: boolean) => ({ words, fits, reaches: fits ? "fits" : "over" });

describe("what a rung says", () => {
  test("its chance in weeks", () => {
    expect(chanceWords(0.97)).toBe("fits in 97 of 100 weeks");
    expect(chanceWords(1)).toBe("fits in every week");
    expect(chanceWords(0)).toBe("fits in no week");
  });

  test("how many losses break it, and the worst of them", () => {
    const both = [loss("proxy p1 is lost", false), loss("proxy p2 is lost", true)];
    expect(lossWords(both)).toBe("breaks after 1 of 2 losses, most if proxy p1 is lost");
    expect(lossWords([loss("proxy p2 is lost", true)])).toBe("fits after the loss");
  });
});

test("what a plan shall stand is asked for, with the spread of the ledger", () => {
  const asked = requestOf({ ...USUAL, stands: ["proxies", "weeks"] }, 3, "2026-11-02", []);
  expect(asked.stands).toEqual(["proxies", "weeks"]);
  expect([asked.change, asked.rate, asked.stream]).toEqual([null, null, null]);
  expect(requestOf(USUAL, null, "2026-11-02", []).stands).toEqual([]);
});
