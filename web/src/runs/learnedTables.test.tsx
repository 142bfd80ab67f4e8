// @vitest-environment jsdom
import { screen, within } from "@testing-library/react";
import { userEvent } from "@testing-library/user-event";
import { expect, it, vi } from "vitest";
import type { FailureRate, LearnedTime } from "../api/runQueries";
import { showIn } from "../testing/harness";
import { answering } from "../testing/server";
import { FailureRates } from "./FailureRates";
import { weekdayWords } from "./LearnedChanges";
import { LearnedRatios } from "./LearnedRatios";
import { LearnedTimes } from "./LearnedTimes";

const ratio = (machine: string, learned: number, otherwise: boolean) => ({
  machine,
  folder: "tills",
  used_gib: 40,
  stated: 1.6,
  learned,
  otherwise,
  error: 0.02,
  runs: 29,
  left_out: 0,
});

const failure = (machine: string, more: Partial<FailureRate>): FailureRate => ({
  machine,
  folder: "tills",
  runs: 30,
  failed: 1,
  rate: 0.03,
  low: 0.01,
  high: 0.08,
  reason: "locked",
  alike: 1,
  plainly: false,
  ...more,
});

it("takes over the ratios that do not hold, as ratios", async () => {
  const edits: unknown[] = [];
  answering({
    "GET /learned-ratios": () => ({
      machines: [ratio("till-01", 1.1234, true), ratio("till-02", 1.6, false)],
    }),
    "POST /estate/facts": ({ body }) => {
      edits.push(body);
      return { changed: 1 };
    },
  });
  showIn(<LearnedRatios plan={1} />);
  expect(await screen.findByText(/\(1 machine of 2\)/)).toBeTruthy();
  const row = screen.getByRole("row", { name: /till-01/ });
  expect(within(row).getByText("1.6 : 1")).toBeTruthy();
  expect(within(row).getByText("1.12 : 1")).toBeTruthy();
  expect(screen.queryByText("till-02")).toBeNull();
  await userEvent.click(within(row).getByRole("checkbox"));
  await userEvent.click(
    screen.getByRole("button", { name: "Take over the compress ratio of 1 machine" }),
  );
  expect(edits).toEqual([
    expect.objectContaining({
      machines: ["till-01"],
      state: { compress_ratio: 1.123 },
      source: "learned",
    }),
  ]);
});

it("says so where what is stated holds, instead of an empty table", async () => {
  answering({ "GET /learned-ratios": () => ({ machines: [ratio("till-02", 1.6, false)] }) });
  showIn(<LearnedRatios plan={1} />);
  expect(await screen.findByText("What is stated holds for each of them.")).toBeTruthy();
  expect(screen.queryByRole("table")).toBeNull();
});

const time = (job: string, step: string, more: Partial<LearnedTime>): LearnedTime => ({
  job,
  name: job,
  step: step as LearnedTime["step"],
  predicted_s: 65,
  learned_s: 85.2,
  low_s: 84,
  high_s: 87,
  differs: true,
  nights: 35,
  runs: 400,
  key: null,
  value: null,
  now: 30,
  stated_before: null,
  taken: [],
  ...more,
});

it("takes what a job states of times into a draft, and only tells the others", async () => {
  answering({
    "GET /learned-times": () => ({
      times: [
        time("Mail", "preparing", { key: "quiesce_s", value: 50.2 }),
        time("Mail", "releasing", {}),
        time("Tills", "verifying", { key: "boot_min", value: 8.04, predicted_s: 360 }),
        time("Tills", "preparing", { key: "quiesce_s", value: 45, differs: false }),
      ],
    }),
  });
  const put = vi.fn(() => Promise.resolve(true));
  showIn(<LearnedTimes plan={1} />, { put });
  expect(await screen.findByText(/\(3 times of 4\)/)).toBeTruthy();
  expect(screen.getByText("quiescing: 50 s would be true")).toBeTruthy();
  expect(within(screen.getByRole("row", { name: /release/ })).queryByRole("checkbox")).toBeNull();
  await userEvent.click(screen.getByRole("button", { name: "Choose those" }));
  await userEvent.click(screen.getByRole("button", { name: "Take 2 times into a draft" }));
  expect(put).toHaveBeenCalledWith([
    {
      operation: "ChangeItem",
      list: "jobs",
      id: "Mail",
      changes: { quiesce_s: 50, learned: [{ key: "quiesce_s", value: 50, stated: 30 }] },
    },
    {
      operation: "ChangeItem",
      list: "jobs",
      id: "Tills",
      changes: { boot_min: 8, learned: [{ key: "boot_min", value: 8, stated: 30 }] },
    },
  ]);
});

it("tells weekdays whose nights bring more or less than usual", () => {
  expect(weekdayWords([1.05, 1, 1, 0.95, 1.3, 0.352, 0.35])).toBe(
    "Fri × 1.30, Sat × 0.35, Sun × 0.35",
  );
  expect(weekdayWords([])).toBe("");
});

it("names who fails plainly more often than others, and why", async () => {
  answering({
    "GET /failure-rates": () => ({
      overall: 0.012,
      machines: [
        failure("till-01", { failed: 9, rate: 0.24, alike: 6, plainly: true }),
        failure("till-02", { reason: "" }),
      ],
    }),
  });
  showIn(<FailureRates plan={1} />);
  expect(await screen.findByText("1 machine fails plainly more often than others.")).toBeTruthy();
  const worst = screen.getByRole("row", { name: /till-01/ });
  expect(worst.textContent).toContain("9 of 30 runs");
  expect(worst.textContent).toContain("24 %");
  expect(worst.textContent).toContain("locked (6)");
  expect(screen.getByRole("row", { name: /till-02/ }).textContent).toContain("no reason told");
});

it("says so where nobody failed", async () => {
  answering({ "GET /failure-rates": () => ({ overall: 0.001, machines: [] }) });
  showIn(<FailureRates plan={1} />);
  expect(await screen.findByText("No machine has failed in the last five weeks.")).toBeTruthy();
  expect(screen.queryByRole("table")).toBeNull();
});
