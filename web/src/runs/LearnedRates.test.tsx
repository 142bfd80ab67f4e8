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
  now: more.stated ?? 720,
  stated_before: null,
  taken: [],
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
    {
      operation: "ChangeItem",
      list: "proxies",
      id: "quay-p2",
      changes: { mib_per_s: 693, learned: [{ key: "mib_per_s", value: 693, stated: 720 }] },
    },
    {
      operation: "SetTransports",
      changes: {
        agent_mib_per_s: 166,
        hot_add_mib_per_s: 235,
        learned: [
          { key: "agent_mib_per_s", value: 166, stated: 180 },
          { key: "hot_add_mib_per_s", value: 235, stated: 250 },
        ],
      },
    },
  ]);
});

it("goes back to what was stated, and leaves what else was taken as it is", async () => {
  const taken = [
    { key: "nic_mbit_per_s", value: 9000, stated: 10000 },
    { key: "backup_nic_mbit_per_s", value: 8000, stated: 9500 },
  ];
  const nic = {
    list: "hosts",
    id: "h1",
    key: "nic_mbit_per_s",
    unit: "Mbit/s",
    stated: 9000,
    learned: 9010,
    low: 8900,
    high: 9100,
    stated_before: 10000,
    taken,
  };
  answering({ "GET /learned-rates": () => ({ rates: [row("host_nic:h1", nic)] }) });
  const put = vi.fn(() => Promise.resolve(true));
  showIn(<LearnedRates plan={1} />, { put });
  // It is shown although the nights say nothing against it any more.
  expect((await screen.findByRole("row", { name: /host_nic/ })).textContent).toContain(
    "the ledger; 10,000 Mbit/s stated",
  );
  await userEvent.click(
    screen.getByRole("button", { name: "Go back to what was stated of host_nic:h1" }),
  );
  expect(put).toHaveBeenCalledWith([
    {
      operation: "ChangeItem",
      list: "hosts",
      id: "h1",
      changes: { nic_mbit_per_s: 10000, learned: [taken[1]] },
    },
  ]);
});

it("offers somebody who may only look nothing to take", async () => {
  answering({ "GET /learned-rates": () => ({ rates: [row("proxy:quay-p2", {})] }) });
  showIn(<LearnedRates plan={1} />, {}, undefined, "read");
  expect(await screen.findByText(/\(1 rate of 1\)/)).toBeTruthy();
  expect(screen.queryByRole("button", { name: /into a draft/ })).toBeNull();
});
