// @vitest-environment jsdom
import { screen, waitFor } from "@testing-library/react";
import { userEvent } from "@testing-library/user-event";
import { describe, expect, it, vi } from "vitest";
import { draft, FRIDAY, plan, showIn } from "../testing/harness";
import { answering } from "../testing/server";
import { AdoptDialog } from "./AdoptDialog";

const changes = [
  {
    operation: { operation: "ChangeItem", list: "jobs", id: "mail", changes: { locked: true } },
    words: "Mail is locked",
    actor: "Ada",
  },
];

function open(found: { stops: unknown[]; breaks: unknown[] }, done = true) {
  answering({ [`GET /validation/${FRIDAY}`]: () => ({ looks: [], ...found }) });
  const onOpen = vi.fn();
  const adopt = vi.fn(() => Promise.resolve(done));
  showIn(<AdoptDialog open onOpen={onOpen} />, {
    plan: plan({ draft: draft({ changes }) }),
    adopt,
  });
  return { user: userEvent.setup(), onOpen, adopt };
}

describe("adopting a draft", () => {
  it("waits until the plan is checked, then tells what changes and takes a note", async () => {
    const { user, onOpen, adopt } = open({ stops: [], breaks: [] });
    expect(screen.getByRole("button", { name: "Adopt this plan" })).toHaveProperty(
      "disabled",
      true,
    );
    await waitFor(() =>
      expect(screen.getByRole("button", { name: "Adopt this plan" })).toHaveProperty(
        "disabled",
        false,
      ),
    );
    expect(screen.getByRole("list", { name: "Changes of the draft" }).textContent).toBe(
      "Mail is locked",
    );
    await user.type(
      screen.getByLabelText("Note: why (kept with the plan)"),
      "agreed with Bo{Enter}",
    );
    expect(adopt).toHaveBeenCalledWith("agreed with Bo", false);
    await waitFor(() => expect(onOpen).toHaveBeenCalledWith(false));
    await waitFor(() =>
      expect(screen.getByTestId("address").textContent).toBe(
        `/jobs/${FRIDAY}?plan=1&draft=none&show=drafts`,
      ),
    );
  });

  it("asks why where something of the plan can never work", async () => {
    const { user, adopt } = open({
      stops: [{ job: "mail", words: "no machine has a path" }],
      breaks: ["a", "b"],
    });
    expect((await screen.findByRole("alert")).textContent).toContain("mail: no machine has a path");
    expect(screen.getByText(/2 findings of this week say/)).toBeDefined();
    const button = screen.getByRole("button", { name: "Adopt all the same" });
    expect(button).toHaveProperty("disabled", true);
    await user.type(screen.getByLabelText("Why it is adopted all the same"), "it is moved away");
    await user.click(button);
    expect(adopt).toHaveBeenCalledWith("it is moved away", true);
  });

  it("stays where it is if it was not adopted", async () => {
    const { user, onOpen } = open({ stops: [], breaks: [] }, false);
    await waitFor(() =>
      expect(screen.getByRole("button", { name: "Adopt this plan" })).toHaveProperty(
        "disabled",
        false,
      ),
    );
    await user.click(screen.getByRole("button", { name: "Adopt this plan" }));
    expect(onOpen).not.toHaveBeenCalled();
  });
});
