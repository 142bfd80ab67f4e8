import { expect, it } from "vitest";
import { accessWords } from "./SourcesSheet";

it("says of accounts only what there is to say", () => {
  expect(accessWords(["not tried"])).toBe("1 account not tried yet.");
  expect(accessWords(["works", "works"])).toBe("2 accounts work.");
  expect(accessWords(["works", "fails", "not tried", "works"])).toBe(
    "4 accounts: 2 work, 1 fails, 1 not tried yet.",
  );
});
