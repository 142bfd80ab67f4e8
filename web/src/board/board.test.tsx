// @vitest-environment jsdom
import { screen, within } from "@testing-library/react";
import { userEvent } from "@testing-library/user-event";
import { describe, expect, it, vi } from "vitest";
import type { TimePart } from "../api/client";
import { job, night, plan, reason, run, showIn } from "../testing/harness";
import { Account } from "./Account";
import { BoardTable } from "./BoardTable";
import { type Bar, type Lane, shapeOf } from "./geometry";
import { Reasons } from "./Reasons";

describe("why a night is not fine", () => {
  const reasons = [
    reason(),
    reason({ kind: "missed", job: "mail", machines: 16, seconds: null }),
    reason({ kind: "close to the end", job: "lab", seconds: 600 }),
    reason({ kind: "RPO breaks", job: null, machine: "db-1", seconds: null }),
    reason({ kind: "skipped", job: "journal", seconds: null }),
  ];

  it("is told with the three gravest reasons, and with all on request", async () => {
    const user = userEvent.setup();
    showIn(<Reasons night={night(undefined, { reasons })} onOpen={vi.fn()} />);
    const told = () => within(screen.getByRole("list", { name: "Why" })).getAllByRole("listitem");
    expect(told()).toHaveLength(3);
    await user.click(screen.getByRole("button", { name: "2 more" }));
    expect(told().length).toBeGreaterThanOrEqual(5);
    await user.click(screen.getByRole("button", { name: "Fewer" }));
    expect(told()).toHaveLength(3);
  });

  it("opens the job of a reason; one of a machine opens nothing", async () => {
    const open = vi.fn();
    showIn(
      <Reasons night={night(undefined, { reasons: [reasons[0]!, reasons[3]!] })} onOpen={open} />,
    );
    await userEvent.setup().click(screen.getByText("office files: ends 1 h 44 min late"));
    expect(open.mock.calls).toEqual([["office-files"]]);
    expect(screen.getByText(/db-1: RPO breaks/).closest("button")).toHaveProperty("disabled", true);
  });

  it("says nothing where there is none", () => {
    showIn(<Reasons night={night()} onOpen={vi.fn()} />);
    expect(screen.queryByRole("list")).toBeNull();
  });
});

describe("the board as a table", () => {
  const bar = (id: string, more = {}): Bar => {
    const made = run(more);
    return {
      id,
      run: made,
      shape: shapeOf(made),
      due: 0,
      start: 0,
      moved: 0,
      end: 0,
      windowEnd: 0,
      mark: null,
    };
  };
  const lane = (name: string, ...bars: Bar[]): Lane => ({
    job: job(name),
    bars,
    copies: [],
    window: null,
    trouble: 0,
    lastEnd: 0,
    bytes: 0,
  });
  const lanes = [
    lane("office-files", bar("f", { over_s: 6240, done: 3 })),
    lane(
      "mail",
      bar("i", {
        job: "mail",
        schedule: 1,
        kind: "incremental",
        runs_as: "incremental",
        first_start: null,
        ended: null,
        outcome: "missed",
      }),
    ),
  ];
  const row = (name: string) => screen.getByRole("row", { name: new RegExp(`^${name}`) });
  const show = (open = vi.fn()) => ({
    open,
    bench: showIn(<BoardTable lanes={lanes} chosen="mail" onOpen={open} />, { plan: plan() }),
  });

  it("tells of each run what its bar shows", () => {
    show();
    const told = within(row("office files"))
      .getAllByRole("cell")
      .map((cell) => cell.textContent);
    expect(told).toEqual([
      "office files",
      "full",
      "3",
      "Fri 21:00",
      "30 min",
      "Fri 21:30",
      "Sat 05:10",
      "1 h 44 min",
      "3 of 4",
      "3.6 TiB",
      "",
      "done",
    ]);
    expect(
      within(row("mail"))
        .getAllByRole("cell")
        .map((cell) => cell.textContent)
        .slice(5, 8),
    ).toEqual(["–", "–", "–"]);
    expect(row("mail").getAttribute("aria-selected")).toBe("true");
  });

  it("moves runs by the keys of the board", async () => {
    const { bench, open } = show();
    const user = userEvent.setup();
    row("office files").focus();
    await user.keyboard("{ArrowRight}{Shift>}{ArrowLeft}{/Shift}]l{Enter}");
    const moves = (bench.move as unknown as { mock: { calls: unknown[][] } }).mock.calls.map(
      ([move]) => move,
    );
    expect(moves).toEqual([
      { type: "start", job: "office-files", schedule: 0, minutes: 5 },
      { type: "start", job: "office-files", schedule: 0, minutes: -30 },
      { type: "full", job: "office-files", schedule: 0, days: 1, everyWeeks: 1 },
      { type: "lock", job: "office-files", locked: true },
    ]);
    expect(open).toHaveBeenCalledTimes(1);
  });

  it("says why a run does not move instead of moving it", async () => {
    const { bench } = show();
    const user = userEvent.setup();
    row("mail").focus();
    await user.keyboard("{ArrowRight}]");
    expect(bench.move).not.toHaveBeenCalled();
    expect(bench.say).toHaveBeenCalledTimes(2);
    expect(bench.say).toHaveBeenCalledWith(expect.stringContaining("locked"));
    await user.keyboard("{Control>}{ArrowRight}{/Control}");
    expect(bench.say).toHaveBeenCalledTimes(2);
  });
});

describe("where the time of a machine went", () => {
  const parts: TimePart[] = [
    { kind: "slot", seconds: 1800, by: "proxy:quay-p2", label: "proxy quay-p2" },
    { kind: "moving", seconds: 5400, by: "link:quay-hill", label: "link quay-hill" },
  ];

  it("is a strip to scale and a sentence", () => {
    showIn(<Account parts={parts} said />);
    const [strip] = document.querySelectorAll<HTMLElement>("[aria-hidden].flex");
    expect([...strip!.children].map((part) => (part as HTMLElement).style.width)).toEqual([
      "25%",
      "75%",
    ]);
    expect(strip!.nextElementSibling?.textContent).toContain("30 min");
    expect(strip!.nextElementSibling?.textContent).toContain("1 h 30 min");
  });

  it("is not there where no time went", () => {
    showIn(<Account parts={[]} said />);
    expect(document.querySelector("[aria-hidden].flex")).toBeNull();
  });
});
