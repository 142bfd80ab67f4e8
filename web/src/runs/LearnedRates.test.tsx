// @vitest-environment jsdom
import { screen } from "@testing-library/react";
import { userEvent } from "@testing-library/user-event";
import { expect, it, vi } from "vitest";
import type { LearnedRate } from "../api/runQueries";
import { showIn } from "../testing/harness";
import { answering } from "../testing/server";
import { LearnedRates } from "./LearnedRates";

const row = (what: string, more: Partial<LearnedRate>): LearnedRate => ({
  what,
  words: what,
  unit: "MiB/s",
  stated: 720,
  learned: 693.4,
  low: 685,
  high: 701,
  spread: 0.04,
  nights: 35,
  runs: 400,
  list: "proxies",
  id: "quay-p2",
  key: "mib_per_s",
  ...more,
});

it("takes what the nights speak against into a draft, streams in one step", async () => {
  answering({
    "GET /learned-rates": () => ({
      rates: [
        row("proxy:quay-p2", {}),
        // Within three hundredths: who shares it was predicted otherwise.
        row("link:far", {
          list: "links",
          id: "far",
          stated: 200,
          learned: 204,
          low: 203,
          high: 206,
        }),
        row("stream:agent", {
          list: null,
          id: null,
          key: "agent_mib_per_s",
          stated: 180,
          learned: 166.2,
          low: 164,
          high: 169,
        }),
        row("stream:hot_add", {
          list: null,
          id: null,
          key: "hot_add_mib_per_s",
          stated: 250,
          learned: 235.1,
          low: 230,
          high: 240,
        }),
        // The nights allow what is stated.
        row("proxy:quay-p1", { id: "quay-p1", stated: 500, learned: 470, low: 430, high: 510 }),
      ],
    }),
  });
  const put = vi.fn(() => Promise.resolve(true));
  showIn(<LearnedRates plan={1} />, { put });
  expect(await screen.findByText(/\(3 rates of 5\)/)).toBeTruthy();
  await userEvent.click(screen.getByRole("button", { name: "Choose those" }));
  await userEvent.click(screen.getByRole("button", { name: "Take 3 rates into a draft" }));
  expect(put).toHaveBeenCalledWith([
    { operation: "ChangeItem", list: "proxies", id: "quay-p2", changes: { mib_per_s: 693 } },
    { operation: "SetTransports", changes: { agent_mib_per_s: 166, hot_add_mib_per_s: 235 } },
  ]);
});

it("offers somebody who may only look nothing to take", async () => {
  answering({ "GET /learned-rates": () => ({ rates: [row("proxy:quay-p2", {})] }) });
  showIn(<LearnedRates plan={1} />, {}, undefined, "read");
  expect(await screen.findByText(/\(1 rate of 1\)/)).toBeTruthy();
  expect(screen.queryByRole("button", { name: /into a draft/ })).toBeNull();
});
