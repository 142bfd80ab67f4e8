// @vitest-environment jsdom
import { render, screen } from "@testing-library/react";
import userEvent from "@testing-library/user-event";
import { useState } from "react";
import { expect, it, test } from "vitest";
import { HouseRules, missing } from "./HouseRules";
import { type HouseRule, keepSettings, keptSettings, requestOf, USUAL } from "./settings";

const JOBS = [
  { id: "mail", name: "Mail" },
  { id: "pay", name: "Payroll" },
];

function Shown({ told }: { told: (rules: HouseRule[]) => void }) {
  const [rules, setRules] = useState<HouseRule[]>([]);
  return (
    <HouseRules
      rules={rules}
      jobs={JOBS}
      onChange={(next) => {
        setRules(next);
        told(next);
      }}
    />
  );
}

it("adds a rule, says what it lacks, and takes it away", async () => {
  let last: HouseRule[] = [];
  render(<Shown told={(rules) => (last = rules)} />);
  const user = userEvent.setup();
  await user.click(screen.getByRole("button", { name: "Never before a time" }));
  expect(screen.getByText("Choose jobs, or name a tag.")).toBeTruthy();
  await user.type(screen.getByLabelText("or of what is tagged"), "finance");
  expect(screen.queryByText("Choose jobs, or name a tag.")).toBeNull();
  await user.click(screen.getByRole("button", { name: "The last to begin" }));
  expect(last).toEqual([
    { rule: "not before", time: "20:00", jobs: [], tag: "finance" },
    { rule: "last", job: "mail" },
  ]);
  await user.click(screen.getAllByRole("button", { name: "Take away" })[0]!);
  expect(last).toEqual([{ rule: "last", job: "mail" }]);
});

test("what a rule lacks before it says something", () => {
  expect(missing({ rule: "apart", jobs: ["mail"] })).toBe("Choose at least two jobs.");
  expect(missing({ rule: "apart", jobs: ["mail", "pay"] })).toBeNull();
  expect(missing({ rule: "not before", time: "8 pm", jobs: ["pay"], tag: "" })).toBe(
    "A time is written as 20:00.",
  );
});

test("rules are asked for; none is asked for where nobody made one", () => {
  const rules: HouseRule[] = [{ rule: "last", job: "mail" }];
  expect(requestOf({ ...USUAL, rules }, null, "2026-11-02", []).rules).toEqual(rules);
  expect(requestOf(USUAL, null, "2026-11-02", []).rules).toEqual([]);
});

test("what was chosen for a search stays with its plan", () => {
  const rules: HouseRule[] = [{ rule: "last", job: "mail" }];
  keepSettings(7, { ...USUAL, rules, mostMoves: 3 });
  expect([keptSettings(7).rules, keptSettings(7).mostMoves]).toEqual([rules, 3]);
  expect(keptSettings(8)).toEqual(USUAL);
  localStorage.setItem("gambrel search of plan 8", "no JSON");
  expect(keptSettings(8)).toEqual(USUAL);
});
