import { afterEach, beforeEach, describe, expect, it, vi } from "vitest";
import { afterCurves, asCurves, showCurves } from "./curvesFirst";

describe("what waits for the curves", () => {
  beforeEach(() => void vi.useFakeTimers());
  afterEach(() => void vi.useRealTimers());

  const asked = (log: string[]) => afterCurves().then(() => log.push("asked"));

  it("does not wait where none are shown", async () => {
    const log: string[] = [];
    void asCurves(new Promise(() => {}));
    await asked(log);
    expect(log).toEqual(["asked"]);
  });

  it("is asked once they are there", async () => {
    vi.resetModules();
    const fresh = await import("./curvesFirst");
    const log: string[] = [];
    const hide = fresh.showCurves();
    void fresh.afterCurves().then(() => log.push("asked"));
    let there = () => {};
    void fresh.asCurves(new Promise<void>((done) => (there = done))).then(() => log.push("curves"));
    await vi.advanceTimersByTimeAsync(500);
    expect(log).toEqual([]);
    there();
    await vi.advanceTimersByTimeAsync(0);
    expect(log.sort()).toEqual(["asked", "curves"]);
    hide();
  });

  it("does not wait for ever", async () => {
    const log: string[] = [];
    const hide = showCurves();
    void asCurves(new Promise(() => {}));
    void asked(log);
    await vi.advanceTimersByTimeAsync(3000);
    expect(log).toEqual(["asked"]);
    hide();
  });
});
