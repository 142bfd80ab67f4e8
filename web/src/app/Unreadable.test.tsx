// @vitest-environment jsdom
import { QueryClient, QueryClientProvider } from "@tanstack/react-query";
import { render, screen, waitFor } from "@testing-library/react";
import userEvent from "@testing-library/user-event";
import { describe, expect, it } from "vitest";
import { ApiProblem } from "../api/client";
import { answering } from "../testing/server";
import { Unreadable, unreadablePlan } from "./Unreadable";

const PROBLEM = {
  title: "This plan cannot be opened",
  errors: [{ field: "machines: web-1", value: null, reason: "cannot be read: gib is not above 0" }],
  unreadable: { plan: 4, last_good: { version: 7, written_at: "2026-11-05T09:30:00Z" } },
};

function shown(problem: object) {
  const plan = unreadablePlan(new ApiProblem(409, problem));
  if (!plan) throw new Error("it is another problem");
  render(
    <QueryClientProvider client={new QueryClient()}>
      <Unreadable plan={plan} />
    </QueryClientProvider>,
  );
}

describe("a plan that cannot be opened", () => {
  it("names the entries at fault and opens the last good version", async () => {
    const asked = answering({
      "POST /plans/4/restore": () => ({ id: 4, name: "p", adopted_version: 7 }),
    });
    shown(PROBLEM);
    expect(screen.getByRole("alert").textContent).toContain(
      "machines: web-1 cannot be read: gib is not above 0",
    );
    expect(screen.getByText(/2026-11-05 at 09:30 UTC/)).toBeTruthy();
    await userEvent.click(screen.getByRole("button", { name: "Open that version" }));
    await waitFor(() => {
      expect(asked.map((each) => each.body)).toEqual([{ version: 7 }]);
    });
  });

  it("offers nothing where no version can be opened", () => {
    shown({ ...PROBLEM, unreadable: { plan: 4, last_good: null } });
    expect(screen.queryByRole("button")).toBeNull();
    expect(screen.getByText(/No earlier version/)).toBeTruthy();
  });

  it("is not shown for other problems", () => {
    expect(unreadablePlan(new ApiProblem(404, { title: "Not found" }))).toBeNull();
    expect(unreadablePlan(new Error("offline"))).toBeNull();
  });
});
