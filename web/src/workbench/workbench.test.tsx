// @vitest-environment jsdom
import { act, render, screen, waitFor } from "@testing-library/react";
import { QueryClient, QueryClientProvider } from "@tanstack/react-query";
import { Profiler, useEffect } from "react";
import { BrowserRouter, Route, Routes } from "react-router";
import { beforeEach, describe, expect, it } from "vitest";
import type { Operation, Plan } from "../api/client";
import { draft, FRIDAY, night, plan, week } from "../testing/harness";
import { answering, type Asked, problem } from "../testing/server";
import { useWorkbench, type Workbench } from "./store";
import { SLOW_MS, WorkbenchProvider } from "./workbench";

let bench: Workbench;

/** How often each of two components was drawn: one shows the plan alone, the other the night. */
const drawn = { plan: 0, night: 0 };

function OfThePlan() {
  return <p>{useWorkbench().plan.name}</p>;
}

function OfTheNight() {
  return <p>{useWorkbench().night?.over_s}</p>;
}

function Seen() {
  const now = useWorkbench();
  // What is shown is what tests look at.
  useEffect(() => {
    bench = now;
  });
  return <p>{now.problem ?? "no problem"}</p>;
}

interface Preview {
  night: string;
  scope: "night" | "first" | "week";
  operations: Operation[];
}

/**
 * Answers to previews that are given only when they are let go, in the order in which they came.
 */
let held: { asked: Preview; answer: (found: unknown) => void }[];
let asked: Asked[];

const late = { [FRIDAY]: { verdict: "over", over_s: 6240 } } as const;
const found = (words: string, scope = "week") => ({
  night: night(FRIDAY, { over_s: 60 }),
  nights:
    scope === "week"
      ? week({ [FRIDAY]: { verdict: "fits" } })
      : week({ [FRIDAY]: { verdict: "fits" } }).slice(4, 5),
  words: [words],
});

async function open(shown: Plan = plan(), more: Record<string, (asked: Asked) => unknown> = {}) {
  held = [];
  asked = answering({
    ...more,
    "GET /weeks/2026-11-02": () => ({ monday: "2026-11-02", nights: week(late) }),
    [`GET /nights/${FRIDAY}`]: () => night(FRIDAY, { verdict: "over", over_s: 6240 }),
    "POST /preview": ({ body }) =>
      new Promise((answer) => held.push({ asked: body as Preview, answer })),
    "GET /plans/1": () => shown,
  });
  const client = new QueryClient({ defaultOptions: { queries: { retry: false } } });
  window.history.replaceState(null, "", "/board");
  render(
    <QueryClientProvider client={client}>
      <BrowserRouter>
        <Routes>
          <Route
            path="/board/:date?"
            element={
              <WorkbenchProvider plan={shown}>
                <Seen />
                <Profiler id="plan" onRender={() => (drawn.plan += 1)}>
                  <OfThePlan />
                </Profiler>
                <Profiler id="night" onRender={() => (drawn.night += 1)}>
                  <OfTheNight />
                </Profiler>
              </WorkbenchProvider>
            }
          />
        </Routes>
      </BrowserRouter>
    </QueryClientProvider>,
  );
  await waitFor(() => expect(bench.night?.date).toBe(FRIDAY));
  await waitFor(() => expect(bench.week).toHaveLength(7));
}

const start = (minutes: number) =>
  ({ type: "start", job: "office-files", schedule: 1, minutes }) as const;
const full = (days: number) =>
  ({ type: "full", job: "office-files", schedule: 0, days, everyWeeks: 1 }) as const;
const times = () =>
  held.map((h) => [h.asked.scope, ...h.asked.operations.map((o) => o.start_time ?? o.operation)]);

beforeEach(() => {
  held = [];
});

describe("a step of a drag", () => {
  it("draws what shows the night anew, and leaves alone what does not", async () => {
    await open();
    const before = { ...drawn };
    act(() => bench.attempt(start(5)));
    act(() => bench.attempt(start(10)));
    await waitFor(() => expect(held.length).toBeGreaterThan(0));
    await act(async () => held[0]?.answer(found("later", "night")));
    await waitFor(() => expect(bench.night?.over_s).toBe(60));
    expect(drawn.night).toBeGreaterThan(before.night);
    expect(drawn.plan).toBe(before.plan);
  });
});

describe("the night in hand", () => {
  it("is the worst of the week where the address names none", async () => {
    await open();
    expect(bench.date).toBe(FRIDAY);
    expect(bench.week.find((n) => n.date === FRIDAY)?.verdict).toBe("over");
  });
});

describe("a move that is held", () => {
  it("asks for its night only, one question at a time, and of those that wait the newest", async () => {
    await open();
    act(() => bench.attempt(start(5)));
    await waitFor(() => expect(held).toHaveLength(1));
    act(() => bench.attempt(start(10)));
    act(() => bench.attempt(start(15)));
    expect(held).toHaveLength(1);
    await act(async () => held[0]!.answer(found("5 later", "night")));
    await waitFor(() => expect(held).toHaveLength(2));
    expect(times()).toEqual([
      ["night", "20:05"],
      ["night", "20:15"],
    ]);
    expect(bench.words).toEqual(["5 later"]);
    expect(bench.attempting).not.toBeNull();
    expect(bench.moves).toEqual([]);
  });

  it("asks for the week where a full goes to another night", async () => {
    await open();
    act(() => bench.attempt(full(1)));
    await waitFor(() => expect(held[0]?.asked.scope).toBe("week"));
  });

  it("leaves nothing behind when it is let go nowhere", async () => {
    await open();
    act(() => bench.attempt(start(5)));
    await waitFor(() => expect(held).toHaveLength(1));
    act(() => bench.attempt(null));
    await act(async () => held[0]!.answer(found("5 later")));
    expect(bench.attempting).toBeNull();
    expect(bench.words).toEqual([]);
    expect(bench.night?.over_s).toBe(6240);
  });
});

describe("a move that is kept", () => {
  it("shows its night first, then its week, beside the week as adopted", async () => {
    await open();
    act(() => bench.move(start(15)));
    await waitFor(() => expect(held).toHaveLength(1));
    await act(async () => held[0]!.answer(found("later", "night")));
    await waitFor(() => expect(held).toHaveLength(2));
    expect(times()).toEqual([
      ["night", "20:15"],
      ["week", "20:15"],
    ]);
    await act(async () => held[1]!.answer(found("later")));
    await waitFor(() => expect(bench.busy).toBeNull());
    const verdict = (nights: Workbench["week"]) => nights.find((n) => n.date === FRIDAY)?.verdict;
    expect([verdict(bench.week), verdict(bench.adoptedWeek)]).toEqual(["fits", "over"]);
  });

  it("is taken back step by step, and all at once", async () => {
    await open();
    act(() => bench.move(start(15)));
    act(() => bench.move(full(1)));
    await waitFor(() => expect(bench.moves).toHaveLength(2));
    act(() => bench.undo());
    expect(bench.moves).toEqual([start(15)]);
    act(() => bench.discard());
    expect(bench.moves).toEqual([]);
    await waitFor(() => expect(bench.night?.over_s).toBe(6240));
  });

  it("shows what was known before where it is refused, and why", async () => {
    await open();
    act(() => bench.move(start(15)));
    await waitFor(() => expect(held).toHaveLength(1));
    await act(async () =>
      held[0]!.answer(problem(422, { title: "This cannot be done", detail: "The job is locked." })),
    );
    expect(await screen.findByText("This cannot be done. The job is locked.")).toBeDefined();
    expect(bench.night?.over_s).toBe(6240);
    expect(bench.moves).toHaveLength(1);
  });
});

describe("saving", () => {
  it("begins a draft where there is none, and keeps the moves in it", async () => {
    const saved: unknown[] = [];
    await open(plan(), {
      "POST /plans/1/drafts": ({ body }) => {
        saved.push(body);
        return draft({ revision: 0 });
      },
      "POST /drafts/5/operations": ({ body }) => {
        saved.push(body);
        return draft({ revision: 1 });
      },
    });
    act(() => bench.move(start(15)));
    await waitFor(() => expect(held).toHaveLength(1));
    await act(async () => bench.save());
    await waitFor(() => expect(bench.moves).toEqual([]));
    expect(saved[0]).toMatchObject({ name: "larkmoor, changed" });
    expect(saved[1]).toMatchObject({
      operations: [
        { operation: "MoveStart", job: "office-files", schedule: 1, start_time: "20:15" },
      ],
    });
    expect(bench.problem).toBeNull();
  });

  it("keeps the moves in hand where it fails, and says why", async () => {
    await open(plan({ draft: draft() }), {
      "POST /drafts/5/operations": () =>
        problem(500, { title: "Nothing was saved", detail: "Try again." }),
    });
    act(() => bench.move(start(15)));
    await act(async () => bench.save());
    await waitFor(() => expect(bench.problem).toBe("Nothing was saved. Try again."));
    expect(bench.moves).toHaveLength(1);
    expect(bench.busy).not.toBe("saving");
  });

  it("tells of what somebody else saved first, and saves on top of it what is chosen", async () => {
    const saved: { revision: string | null; body: unknown }[] = [];
    const theirs = [{ words: "Office files starts at 22:00", actor: "Bo", undone: false }];
    const conflict = {
      index: 0,
      key: null,
      list: "jobs",
      id: "office-files",
      field: "schedules",
      theirs: ["22:00"],
    };
    await open(plan({ draft: draft() }), {
      "POST /drafts/5/operations": ({ body, headers }) => {
        saved.push({ revision: headers.get("If-Match"), body });
        return saved.length === 1
          ? problem(412, {
              title: "The draft was changed",
              now: draft({ revision: 3 }),
              theirs,
              conflicts: [conflict],
            })
          : draft({ revision: 4 });
      },
    });
    act(() => bench.move(start(15)));
    await act(async () => bench.save());
    await waitFor(() => expect(bench.clash?.theirs).toEqual(theirs));
    expect(bench.problem).toBeNull();
    const mine = bench.clash!.yours;
    expect(mine).toMatchObject([{ operation: "MoveStart", start_time: "20:15" }]);
    await act(async () => bench.settleClash(mine));
    await waitFor(() => expect(saved).toHaveLength(2));
    expect(saved[0]!.revision).not.toBe(saved[1]!.revision);
    await waitFor(() => expect(bench.moves).toEqual([]));
    expect(bench.clash).toBeNull();
  });

  it("forgets what was in hand where the others' edits are to stand", async () => {
    await open(plan({ draft: draft() }), {
      "POST /drafts/5/operations": () =>
        problem(412, {
          title: "The draft was changed",
          now: draft({ revision: 3 }),
          theirs: [{ words: "x", actor: "Bo", undone: false }],
          conflicts: [],
        }),
    });
    act(() => bench.move(start(15)));
    await act(async () => bench.save());
    await waitFor(() => expect(bench.clash).not.toBeNull());
    act(() => bench.settleClash([]));
    expect([bench.clash, bench.moves]).toEqual([null, []]);
  });
});

describe("what is thought about", () => {
  const hold: Operation = {
    operation: "ChangeItem",
    list: "jobs",
    id: "mail",
    changes: { on_hold: true },
  };

  it("is asked for the week, and what is wrong with it is said where it is edited", async () => {
    await open();
    act(() => bench.consider([hold]));
    await waitFor(() =>
      expect(held[0]?.asked).toMatchObject({ scope: "week", operations: [hold] }),
    );
    await act(async () => held[0]!.answer(problem(422, { title: "Refused", errors: [] })));
    await waitFor(() => expect(bench.refused?.status).toBe(422));
    expect(bench.problem).toBeNull();
    act(() => bench.consider([]));
    expect([bench.refused, bench.considered]).toEqual([null, []]);
  });

  it("is shown for the first night that changes before the week, where that takes long", async () => {
    await open();
    act(() => bench.consider([hold]));
    await waitFor(() => expect(held).toHaveLength(1));
    await new Promise((over) => setTimeout(over, SLOW_MS + 50));
    await act(async () => held[0]!.answer(found("held")));
    await waitFor(() => expect(bench.busy).toBeNull());
    expect(bench.awaited).toEqual([]);
    act(() => bench.consider([{ ...hold, id: "office-files" }]));
    await waitFor(() => expect(held).toHaveLength(2));
    expect(held[1]?.asked.scope).toBe("first");
    const monday = { night: null, nights: week().slice(0, 1), words: ["held"] };
    await act(async () => held[1]!.answer(monday));
    // The night in hand is still that of the plan, and what is not simulated yet is marked.
    await waitFor(() => expect(held).toHaveLength(3));
    expect(held[2]?.asked.scope).toBe("week");
    expect(bench.awaited).toHaveLength(6);
    expect(bench.awaited).toContain(FRIDAY);
    expect(bench.night?.over_s).toBe(6240);
    await act(async () => held[2]!.answer(found("held")));
    await waitFor(() => expect(bench.night?.over_s).toBe(60));
    expect([bench.awaited, bench.busy]).toEqual([[], null]);
  });

  it("is saved with the moves before it", async () => {
    const saved: unknown[] = [];
    await open(plan({ draft: draft() }), {
      "POST /drafts/5/operations": ({ body }) => {
        saved.push(body);
        return draft({ revision: 3 });
      },
    });
    act(() => bench.move(start(15)));
    let done = false;
    await act(async () => {
      done = await bench.put([hold]);
    });
    expect(done).toBe(true);
    expect(saved).toMatchObject([{ operations: [{ operation: "MoveStart" }, hold] }]);
    expect(bench.moves).toEqual([]);
  });
});

describe("steps of a draft", () => {
  it("go back and on again, and it is adopted with a note", async () => {
    const changes = [
      {
        operation: { operation: "ChangeItem", list: "jobs", id: "mail", changes: { locked: true } },
        words: "Mail is locked",
        actor: "Ada",
      },
    ];
    await open(plan({ draft: draft({ changes, can_redo: true }) }), {
      "POST /drafts/5/undo": () => draft({ revision: 3, can_redo: true }),
      "POST /drafts/5/redo": () => draft({ revision: 4, changes }),
      "POST /drafts/5/adopt": () => ({ id: 1, name: "larkmoor", adopted_version: 8 }),
    });
    await act(async () => bench.undo());
    // A step that is not done yet takes no other beside it.
    await waitFor(() => expect(bench.busy).toBeNull());
    await act(async () => bench.redo());
    await waitFor(() => expect(bench.busy).toBeNull());
    await act(async () => {
      await bench.adopt("fulls moved", false);
    });
    const sent = asked.filter((a) => a.method === "POST" && a.path.includes("/drafts/5/"));
    expect(sent.map((a) => a.path.split("/").at(-1))).toEqual(["undo", "redo", "adopt"]);
    expect(sent.at(-1)?.body).toMatchObject({ note: "fulls moved" });
    expect(bench.problem).toBeNull();
  });
});
