// @vitest-environment jsdom
import { screen, waitFor, within } from "@testing-library/react";
import { userEvent } from "@testing-library/user-event";
import { expect, it } from "vitest";
import type { LearnedChange } from "../api/runQueries";
import { showIn } from "../testing/harness";
import { answering } from "../testing/server";
import { LearnedOtherwise } from "./LearnedOtherwise";

const row = (machine: string, learned: number, more: Partial<LearnedChange> = {}) =>
  ({
    machine,
    stated: 0.02,
    learned,
    error: 0.001,
    otherwise: true,
    runs: 30,
    ...more,
  }) as LearnedChange;

it("lists machines whose incrementals speak against what is stated, and takes one or all", async () => {
  const taken: unknown[] = [];
  answering({
    "GET /learned-changes": () => ({
      machines: [
        row("mail-01", 0.031),
        row("gate", 0.0204, { otherwise: false }),
        row("fares", 0.2),
        row("unsure", 0.03, { error: 0.02, otherwise: false }),
      ],
    }),
    "GET /learned-ratios": () => ({
      machines: [
        { machine: "cctv-01", stated: 1.6, learned: 1.02, error: 0.01, otherwise: true },
        { machine: "mail-01", stated: 1.6, learned: 1.6, error: 0.01, otherwise: false },
      ],
    }),
    "POST /estate/facts": ({ body }) => {
      taken.push(body);
      return {};
    },
  });
  await showIn(<LearnedOtherwise plan={1} />);
  const ratios = await screen.findByRole("region", { name: "Learned compress ratio" });
  expect(ratios.querySelectorAll("li")).toHaveLength(1);
  expect(ratios.textContent).toContain("cctv-01: compresses 1.02 : 1 ± 0.01, stated 1.6 : 1");
  const changes = await screen.findByRole("region", { name: "Learned daily change" });
  const list = within(changes).getByRole("list");
  const lines = [...list.querySelectorAll("li")].map((line) => line.textContent);
  expect(lines).toHaveLength(2);
  expect(lines[0]).toContain("fares: 20 % ± 0.1 % change a day, stated 2 %");
  expect(lines[1]).toContain("mail-01: 3.1 %");
  await userEvent.click(screen.getByRole("button", { name: "Take the daily change of mail-01" }));
  await waitFor(() => expect(taken).toHaveLength(1));
  expect(taken[0]).toMatchObject({
    machines: ["mail-01"],
    state: { daily_change: 0.031 },
    source: "learned",
  });
  await userEvent.click(screen.getByRole("button", { name: "Take all 2 of daily change" }));
  await waitFor(() => expect(taken).toHaveLength(3));
  await userEvent.click(screen.getByRole("button", { name: "Take the compress ratio of cctv-01" }));
  await waitFor(() => expect(taken).toHaveLength(4));
  expect(taken[3]).toMatchObject({ machines: ["cctv-01"], state: { compress_ratio: 1.02 } });
});
