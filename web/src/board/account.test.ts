import { describe, expect, it } from "vitest";
import { accountSentence, partWords } from "./account";

const part = (kind: string, seconds: number, label: string | null = null) => ({
  kind,
  seconds,
  by: label,
  label,
});

describe("the account of a machine-run", () => {
  it("says what was waited for and what limited the moving", () => {
    expect(partWords(part("slot", 7200, "Proxy p1, slots"))).toBe("waits 2 h for Proxy p1, slots");
    expect(partWords(part("moving", 600, "Link A to B"))).toBe(
      "moves 10 min, limited by Link A to B",
    );
    expect(partWords(part("verifying", 360))).toBe("is verified 6 min");
  });

  it("adds up in its sentence", () => {
    const said = accountSentence([part("slot", 3600), part("preparing", 60), part("moving", 1740)]);
    expect(said).toBe("Waits 1 h; prepares 1 min; moves 29 min: 1 h 30 min in all.");
    expect(accountSentence([])).toBe("It never reached the queue.");
  });
});
