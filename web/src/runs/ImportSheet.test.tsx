// @vitest-environment jsdom
import { cleanup, fireEvent, render, screen } from "@testing-library/react";
import { afterEach, expect, it, vi } from "vitest";
import { Sizes } from "./ImportSheet";

const small = {
  steps: 1,
  runs: 38,
  of: 40,
  machine: "shop-web-01",
  told_bytes: 24 * 2 ** 20,
  expected_bytes: 24 * 2 ** 30,
};

it("asks whether sizes are in another unit, with a machine to judge by", () => {
  const onAnswer = vi.fn();
  render(<Sizes odd={small} onAnswer={onAnswer} />);
  expect(screen.getByRole("alert").textContent).toContain(
    "38 of 40 machine-runs that can be compared are about 1,024 times smaller than the plan " +
      "expects. Of shop-web-01 the file says 24 MiB; the plan expects 24 GiB.",
  );
  fireEvent.click(screen.getByRole("button", { name: "Read them 1,024 times larger" }));
  fireEvent.click(screen.getByRole("button", { name: "They are right" }));
  expect(onAnswer.mock.calls).toEqual([[1], [0]]);
});

afterEach(cleanup);

it("names the square, and all machine-runs", () => {
  const odd = { ...small, steps: -2, runs: 40, expected_bytes: 40 * 2 ** 10 };
  render(<Sizes odd={odd} onAnswer={() => {}} />);
  expect(screen.getByRole("alert").textContent).toContain("All 40 machine-runs");
  expect(screen.getByRole("alert").textContent).toContain("the plan expects 40 KiB");
  screen.getByRole("button", { name: "Read them 1,048,576 times smaller" });
});
