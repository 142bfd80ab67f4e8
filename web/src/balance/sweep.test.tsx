// @vitest-environment jsdom
import { screen, within } from "@testing-library/react";
import userEvent from "@testing-library/user-event";
import { expect, it, vi } from "vitest";
import type { Stood } from "../api/balanceQueries";
import { showIn } from "../testing/harness";
import { answering } from "../testing/server";
import { brokenBy, Sweep, verdictOf } from "./Sweep";

const NIGHTS = ["2026-11-02", "2026-11-06"];
const row = (words: string, holds: number, happens: Stood["happens"]): Stood => ({
  words,
  happens,
  samples: 64,
  holds,
  nights: NIGHTS.map((date, i) => ({ date, holds: i ? holds : 1 })),
});
const nothing = row("nothing happens", 1, null);
const p1 = row("proxy p1 is lost", 0.25, { happens: "LoseProxy", proxy: "p1" });
const h1 = row("host h1 is lost", 1, { happens: "LoseHost", host: "h1" });

const computed = (asked: object, more: object = {}) => ({
  id: 4,
  kind: "sweep",
  state: "done",
  stale: false,
  asked,
  progress: {},
  message: "",
  result: { losses: [nothing, p1, h1] },
  ...more,
});

it("asks for the losses that are ticked, with the spread of the ledger", async () => {
  const asking = answering({
    "GET /computations": () => [],
    "GET /learned-spread": () => ({ change: 0.2, rate: null, stream: null, nights: 12 }),
    "POST /sweeps": () => computed({}, { state: "running", result: null }),
  });
  showIn(<Sweep onBalance={vi.fn()} />);
  await screen.findByText("The spread of change comes from 12 nights of the ledger.");
  await userEvent.click(screen.getByLabelText("each host"));
  await userEvent.click(screen.getByRole("button", { name: "Try every loss" }));
  await expect.poll(() => asking.find((each) => each.method === "POST")).toBeDefined();
  expect(asking.find((each) => each.method === "POST")?.body).toMatchObject({
    losses: ["proxies", "links"],
    samples: 64,
    change: null,
    rate: null,
  });
});

it("cannot be asked for nothing", async () => {
  answering({ "GET /computations": () => [], "GET /learned-spread": () => ({ nights: 0 }) });
  showIn(<Sweep onBalance={vi.fn()} />);
  await screen.findByText(/^Usual spreads/);
  for (const name of ["each proxy", "each host", "the slowest link at half"])
    await userEvent.click(screen.getByLabelText(name));
  const button = screen.getByRole("button", { name: "Try every loss" });
  expect((button as HTMLButtonElement).disabled).toBe(true);
});

it("tells how often each loss is stood, and hands one that is not to Balance", async () => {
  answering({
    "GET /computations": () => [computed({ draft: null, day: "2026-11-02", happens: [] })],
    "GET /learned-spread": () => ({ nights: 0 }),
  });
  const onBalance = vi.fn();
  showIn(<Sweep onBalance={onBalance} />);
  const lost = await screen.findByRole("row", { name: /proxy p1 is lost/ });
  expect(lost.textContent).toContain("25 of 100 weeks");
  expect(screen.getByRole("row", { name: /host h1 is lost/ }).textContent).toContain("every week");
  // What is stood in every week needs no balance.
  expect(screen.getAllByRole("button", { name: "Balance it" })).toHaveLength(1);
  await userEvent.click(within(lost).getByRole("button", { name: "Balance it" }));
  expect(onBalance).toHaveBeenCalledWith([{ happens: "LoseProxy", proxy: "p1" }]);
});

it("says in a sentence what the rows come to", () => {
  expect(verdictOf([nothing, p1, h1])).toBe(
    "The plan stands 1 of 2 losses in at least 95 of 100 weeks; the worst: proxy p1 is lost.",
  );
  expect(verdictOf([nothing, h1])).toBe("The plan stands 1 loss in at least 95 of 100 weeks.");
  expect(verdictOf([nothing, p1])).toContain("stands none of 1 loss");
  expect(verdictOf([nothing])).toBe("There is nothing of the chosen kinds to lose.");
});

it("tells what a loss adds where the week does not fit without it", () => {
  const without = row("nothing happens", 0, null);
  expect(verdictOf([without, p1])).toBe(
    "Without any loss the week fits in no week. None of 1 loss would break another night.",
  );
  const monday = { ...p1, nights: NIGHTS.map((date, i) => ({ date, holds: i ? 0 : 0.5 })) };
  expect(brokenBy(monday, without).map((night) => night.date)).toEqual([NIGHTS[0]]);
  expect(verdictOf([without, p1, monday])).toBe(
    "Without any loss the week fits in no week. Of 2 losses, 1 would break another night: proxy p1 is lost.",
  );
  expect(verdictOf([without, monday, monday])).toContain(
    "Of 2 losses, 2 would break another night; among them: proxy p1 is lost.",
  );
});
