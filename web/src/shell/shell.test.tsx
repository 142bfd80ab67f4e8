// @vitest-environment jsdom
import { screen, within } from "@testing-library/react";
import { userEvent } from "@testing-library/user-event";
import { describe, expect, it } from "vitest";
import { draft, FRIDAY, plan, reason, show, showIn, summary, week } from "../testing/harness";
import { answering } from "../testing/server";
import { ClashDialog } from "./ClashDialog";
import { EffectLine } from "./EffectLine";
import { Silhouette } from "../ui/Silhouette";
import { WeekStrip } from "./WeekStrip";
import type { Clash } from "../workbench/store";

const NOTHING_COMPUTED = { "GET /computations": () => [] };
const over = {
  verdict: "over",
  over_s: 6240,
  last_end: "2026-11-07T07:44:00Z",
  missed: 3,
} as const;

describe("the week strip", () => {
  const nights = () => within(screen.getByRole("group", { name: "Nights" })).getAllByRole("button");

  it("has seven nights with their verdict and end, the chosen one marked", () => {
    answering(NOTHING_COMPUTED);
    showIn(<WeekStrip />, { week: week({ [FRIDAY]: over }) });
    expect(nights()).toHaveLength(7);
    const friday = screen.getByRole("button", { current: "date" });
    expect(friday.textContent).toContain("Fri 6");
    expect(friday.textContent).toContain("over");
    expect(friday.textContent).toContain("07:44");
    expect(nights().map((night) => night.tabIndex)).toEqual([-1, -1, -1, -1, 0, -1, -1]);
  });

  it("marks the night that a full is held over", () => {
    answering(NOTHING_COMPUTED);
    showIn(<WeekStrip />, {
      attempting: { type: "full", job: "tills", schedule: 0, days: 1, everyWeeks: 1 },
    });
    const marked = nights().map((night) => night.className.includes("border-dashed"));
    expect(marked).toEqual([false, false, false, false, false, true, false]);
  });

  it("goes to a night by mouse, by arrows, by weeks, and by date", async () => {
    answering(NOTHING_COMPUTED);
    const bench = showIn(<WeekStrip />);
    const user = userEvent.setup();
    await user.click(nights()[1]!);
    screen.getByRole("button", { current: "date" }).focus();
    await user.keyboard("{ArrowRight}{ArrowLeft}{PageDown}");
    await user.click(screen.getByRole("button", { name: "The week after" }));
    const went = (bench.goTo as unknown as { mock: { calls: [string][] } }).mock.calls.map(
      ([to]) => to,
    );
    expect(went).toEqual(["2026-11-03", "2026-11-07", "2026-11-05", "2026-11-13", "2026-11-13"]);
  });

  it("stays within what can be forecast", async () => {
    answering(NOTHING_COMPUTED);
    const bench = showIn(<WeekStrip />);
    await userEvent.setup().click(screen.getByRole("button", { name: "The week before" }));
    expect(bench.goTo).toHaveBeenCalledWith("2026-11-02");
  });

  it("names the nights of which there is no forecast, and lets nobody go there", () => {
    answering(NOTHING_COMPUTED);
    const none = {
      forecast: false,
      verdict: null,
      last_end: null,
      silhouette: null,
      tightest: null,
    } as const;
    showIn(<WeekStrip />, { week: week({ "2026-11-02": none }) });
    expect(nights()[0]).toHaveProperty("disabled", true);
    expect(nights()[0]!.textContent).toContain("no forecast");
  });

  it("tells more of a night where it is pointed at", async () => {
    answering(NOTHING_COMPUTED);
    showIn(<WeekStrip />, { week: week({ [FRIDAY]: over }) });
    await userEvent.setup().hover(screen.getByRole("button", { current: "date" }));
    const tip = await screen.findByRole("tooltip");
    expect(tip.textContent).toContain("12 runs, 3 machines not backed up, 1 h 44 min late.");
    expect(tip.textContent).toContain("Drawn: Slots of proxy quay-p2, its busiest.");
  });
});

describe("the silhouette", () => {
  const drawn = (night = summary(FRIDAY), more = {}) => {
    const { container } = show(<Silhouette night={night} {...more} />);
    return [...container.querySelectorAll("path")].map((path) => path.getAttribute("d") ?? "");
  };

  it("has a roof, and a house below it as high as the load", () => {
    const [house, , roof] = drawn();
    // Half of the slots: half way between the floor at 45 and the roof at 13.
    expect(house).toMatch(/^M0,29L/);
    expect(roof).toMatch(/H[\d.]+L/);
  });

  it("is cut at the roof where more is wanted than there is", () => {
    const shape = { ...summary(FRIDAY).silhouette!, load: Array<number>(96).fill(1.7) };
    const [house] = drawn(summary(FRIDAY, { silhouette: shape }));
    expect(house).toMatch(/^M0,13L/);
    expect(house).not.toMatch(/,(-|\d(\.\d+)?L)/);
  });

  it("marks what is over, what waits, what was before and how sure it is", () => {
    const plain = drawn().length;
    const late = summary(FRIDAY, { ...over });
    expect(drawn(late).length).toBe(plain + 1);
    expect(drawn(late, { before: summary(FRIDAY) }).length).toBe(plain + 2);
    const shape = { ...summary(FRIDAY).silhouette!, waiting: Array<number>(96).fill(2) };
    expect(drawn(summary(FRIDAY, { silhouette: shape }))[1]).not.toBe("");
    const sure = { median_end: "2026-11-07T05:00:00Z", late_end: "2026-11-07T07:00:00Z" };
    const { container } = show(<Silhouette night={summary(FRIDAY)} sure={sure} />);
    expect(Number(container.querySelectorAll("rect")[3]?.getAttribute("width"))).toBeGreaterThan(2);
  });

  it("is not there for a night without a forecast", () => {
    expect(drawn(summary(FRIDAY, { silhouette: null }))).toEqual([]);
  });
});

describe("the effect of changes", () => {
  const change = { operation: { operation: "ChangeItem" }, words: "Mail is locked", actor: "Ada" };
  const line = () => screen.getByRole("contentinfo", { name: "Effect of the changes" });

  it("is not there while nothing differs", () => {
    showIn(<EffectLine />);
    expect(screen.queryByRole("contentinfo")).toBeNull();
  });

  it("tells now and before of the night, and which other nights turned", () => {
    showIn(<EffectLine />, {
      moves: [{ type: "start", job: "office-files", schedule: 0, minutes: 30 }],
      words: ["Office files starts at 21:30"],
      week: week({ "2026-11-07": { verdict: "tight" } }),
      adoptedWeek: week({ [FRIDAY]: { ...over, reasons: [reason()] } }),
    });
    expect(line().textContent).toContain(
      "Office files starts at 21:30 · Last run Fri ends Fri 23:10 (was Sat 07:44)",
    );
    expect(line().textContent).toContain("late 0 min (was 1 h 44 min)");
    expect(line().textContent).toContain("problems 0 (was 1)");
    expect(line().textContent).toContain("Sat now tight");
  });

  it("says that a night had no run before, and does not wait for one", () => {
    showIn(<EffectLine />, {
      moves: [{ type: "lock", job: "mail", locked: true }],
      adoptedWeek: week({ [FRIDAY]: { last_end: null, tightest: null } }),
    });
    expect(line().textContent).toContain("Last run Fri ends Fri 23:10 (was none) · late");
  });

  it("says how many changes there are where it can name only the last", () => {
    showIn(<EffectLine />, {
      moves: [{ type: "lock", job: "mail", locked: true }],
      words: ["Office files: to quay-dedupe", "Office files: 60 points carried"],
    });
    expect(line().textContent).toContain("2 changes, the last: Office files: 60 points carried · ");
  });

  it("offers to keep or discard moves, and to compare and adopt a draft", async () => {
    const bench = showIn(<EffectLine />, { moves: [{ type: "lock", job: "mail", locked: true }] });
    const user = userEvent.setup();
    await user.click(screen.getByRole("button", { name: "Discard" }));
    await user.click(screen.getByRole("button", { name: "Save to draft" }));
    expect(
      [bench.discard, bench.save].map(
        (act) => (act as unknown as { mock: { calls: unknown[] } }).mock.calls.length,
      ),
    ).toEqual([1, 1]);
    expect(screen.queryByRole("button", { name: "Adopt" })).toBeNull();
  });

  it("offers who may only look neither saving nor adopting", () => {
    showIn(
      <EffectLine />,
      { moves: [{ type: "lock", job: "mail", locked: true }] },
      undefined,
      "read",
    );
    expect(screen.queryByRole("button", { name: "Save to draft" })).toBeNull();
    expect(screen.getByText("You may look: this cannot be saved")).toBeTruthy();
    expect(screen.getByRole("button", { name: "Discard" })).toBeTruthy();
  });

  it("leads from a draft to its comparison, and adopts it with a note", async () => {
    answering({ "GET /drafts/5/check": () => ({ stops: [], looks: [] }) });
    const bench = showIn(<EffectLine />, {
      plan: plan({ draft: draft({ changes: [change], can_redo: true }) }),
    });
    const user = userEvent.setup();
    await user.click(screen.getByRole("button", { name: "Redo" }));
    expect(bench.redo).toHaveBeenCalled();
    await user.click(screen.getByRole("button", { name: "Compare" }));
    expect(screen.getByTestId("address").textContent).toBe(`/compare/${FRIDAY}?other=draft%3A5`);
  });

  it("says what went wrong in front of everything else, until it is dismissed", async () => {
    const bench = showIn(<EffectLine />, { problem: "This run has no schedule." });
    expect(within(line()).getByRole("alert").textContent).toBe("This run has no schedule.");
    await userEvent.setup().click(screen.getByRole("button", { name: "Dismiss" }));
    expect(bench.say).toHaveBeenCalledWith(null);
  });
});

describe("edits that met", () => {
  const clash: Clash = {
    now: draft({ revision: 3 }),
    theirs: [{ words: "Mail starts at 22:00", actor: "Bo", undone: false }],
    yours: [
      { operation: "ChangeItem", list: "jobs", id: "mail", changes: { priority: 5, share: 2 } },
      { operation: "MoveStart", job: "office-files", schedule: 0, start_time: "21:30" },
    ],
    conflicts: [
      {
        index: 0,
        key: "priority",
        list: "jobs",
        id: "mail",
        field: "priority",
        theirs: ["priority 4"],
      },
    ],
  };

  it("are told with who did what, and the others' stand unless one says otherwise", async () => {
    const bench = showIn(<ClashDialog />, { clash });
    expect(screen.getByRole("dialog").textContent).toContain("Bo saved: Mail starts at 22:00");
    expect(screen.getByLabelText("Theirs: priority 4")).toHaveProperty("checked", true);
    await userEvent.setup().click(screen.getByRole("button", { name: "Save mine on top" }));
    expect(bench.settleClash).toHaveBeenCalledWith([
      { ...clash.yours[0], changes: { share: 2 } },
      clash.yours[1],
    ]);
  });

  it("keep one's own where that is chosen", async () => {
    const bench = showIn(<ClashDialog />, { clash });
    const user = userEvent.setup();
    await user.click(screen.getByLabelText("Mine"));
    await user.click(screen.getByRole("button", { name: "Save mine on top" }));
    expect(bench.settleClash).toHaveBeenCalledWith(clash.yours);
  });

  it("can be left to the others as a whole", async () => {
    const bench = showIn(<ClashDialog />, { clash: { ...clash, conflicts: [] } });
    expect(screen.getByText("None of it touches what you changed.")).toBeDefined();
    await userEvent.setup().click(screen.getByRole("button", { name: "Forget mine" }));
    expect(bench.settleClash).toHaveBeenCalledWith([]);
  });
});
