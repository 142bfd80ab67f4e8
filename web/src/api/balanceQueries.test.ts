// @vitest-environment jsdom
import { QueryClient, QueryObserver } from "@tanstack/react-query";
import { afterEach, beforeEach, expect, it, vi } from "vitest";
import { answering, stopServing } from "../testing/server";
import { computationsQuery } from "./balanceQueries";

beforeEach(() => void vi.useFakeTimers());
afterEach(() => {
  vi.useRealTimers();
  stopServing();
});

it("asks for a search while it runs, has its result with the first answer, then asks no more", async () => {
  let state = "running";
  const heard = answering({
    "GET /computations": () => [{ id: 1, kind: "balance", state, result: null }],
  });
  const observer = new QueryObserver(new QueryClient(), computationsQuery(1, "balance"));
  const seen: (string | undefined)[] = [];
  const leave = observer.subscribe(({ data }) => seen.push(data?.[0]?.state));
  await vi.advanceTimersByTimeAsync(5000);
  const whileItRuns = heard.length;
  expect(whileItRuns).toBeGreaterThan(5);
  expect(seen.at(-1)).toBe("running");
  state = "done";
  // Whatever time the search took, the next answer is less than a second away.
  await vi.advanceTimersByTimeAsync(1000);
  expect(seen.at(-1)).toBe("done");
  expect(heard.length).toBe(whileItRuns + 1);
  await vi.advanceTimersByTimeAsync(60_000);
  expect(heard.length).toBe(whileItRuns + 1);
  leave();
});
