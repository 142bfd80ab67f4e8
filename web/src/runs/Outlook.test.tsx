// @vitest-environment jsdom
import { screen, waitFor } from "@testing-library/react";
import { userEvent } from "@testing-library/user-event";
import { expect, it } from "vitest";
import { show, ZONE } from "../testing/harness";
import { answering } from "../testing/server";
import { OutlookOfTonight } from "./Outlook";

const ORDER = { kind: "let pass", job: "lab", machines: [], proxy: null, slots: 0 };
const HELP = {
  words: "Let Lab pass the other jobs tonight",
  order: ORDER,
  brings: ["Lab: 16 more machines done"],
  costs: ["Finance apps ends 44 min later"],
  saved: [],
  fits_before: 0,
  fits_after: 0.4,
};
const FOUND = {
  current: true,
  looking: false,
  at: "2026-11-07T01:20:00.000Z",
  draws: 100,
  verdict: "over",
  fits: 0,
  early_end: null,
  last_end: null,
  late_end: null,
  words: "In none of 100 draws does the rest of the night keep every window and every machine.",
  runs: [],
  shown: [],
  help_at: "2026-11-07T01:20:00.000Z",
  help: [HELP],
};

const shown = () =>
  show(<OutlookOfTonight plan={1} zone={ZONE} orders={[]} ordersPossible />, "/runs/2026-11-06");

it("orders what would help with one press", async () => {
  const asked = answering({
    "GET /tonight/outlook": () => FOUND,
    "POST /orders": () => ({ id: 1 }),
  });
  shown();
  expect(await screen.findByText("Lab: 16 more machines done.")).toBeTruthy();
  expect(screen.getByText("It costs: Finance apps ends 44 min later.")).toBeTruthy();
  await userEvent.click(screen.getByRole("button", { name: `Order: ${HELP.words}` }));
  await waitFor(() => expect(asked.find((each) => each.method === "POST")?.body).toEqual(ORDER));
});

it("says of which moment the help is while it is looked for anew", async () => {
  answering({
    "GET /tonight/outlook": () => ({ ...FOUND, at: "2026-11-07T01:40:00.000Z", looking: true }),
  });
  shown();
  expect(await screen.findByText("as of 01:20; it is simulated anew")).toBeTruthy();
});

it("says so where nothing helps, and nothing where nothing is needed", async () => {
  answering({ "GET /tonight/outlook": () => ({ ...FOUND, help: [] }) });
  const page = shown();
  expect(await screen.findByText(/Nothing that was tried/)).toBeTruthy();
  page.unmount();
  answering({ "GET /tonight/outlook": () => ({ ...FOUND, fits: 1, help: [] }) });
  shown();
  expect(await screen.findByText(FOUND.words)).toBeTruthy();
  expect(screen.queryByText("What would help tonight only")).toBeNull();
});
