// @vitest-environment jsdom
import { screen, within } from "@testing-library/react";
import { userEvent } from "@testing-library/user-event";
import { expect, it } from "vitest";
import type { FailureRate } from "../api/runQueries";
import { showIn } from "../testing/harness";
import { answering } from "../testing/server";
import { FailureRates } from "./FailureRates";
import { LearnedRatios } from "./LearnedRatios";

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
