import { describe, expect, it } from "vitest";
import type { Draft, Plan } from "../api/client";
import { HAPPENINGS, happeningOf, usualScenarios } from "./happenings";
import {
  type Computation,
  isStale,
  newestFor,
  operationsOf,
  type ProposedMove,
  type Score,
} from "../api/balanceQueries";
import { fallen, MOVE_KINDS, requestOf, scoreWords, USUAL } from "./settings";

const score = (some: Partial<Score>): Score => ({
  lost: 0,
  rpo_missed: 0,
  rpo_s: 0,
  over_s: 0,
  skipped: 0,
  margin_s: 0,
  strain_s: 0,
  fits: true,
  ...some,
});

describe("requestOf", () => {
  it("asks for what was chosen, and only for the usual kinds unless more are", () => {
    const asked = requestOf({ ...USUAL, weeks: 2, jobs: ["mail"] }, 3, "2026-11-02", []);
    expect(asked).toMatchObject({
      weeks: 2,
      jobs: ["mail"],
      draft: 3,
      day: "2026-11-02",
      most_moves: 15,
      comfort: 0.85,
    });
    expect(asked.kinds).not.toContain("repository");
    expect(MOVE_KINDS.map((kind) => kind.value)).toContain("synthetic");
  });
});

describe("scoreWords", () => {
  const seconds = (s: number) => `${s} s`;
  it("names what there is, the gravest first", () => {
    expect(scoreWords(score({ lost: 2, over_s: 60, strain_s: 900 }), seconds)).toEqual([
      "machines not backed up",
      "runs past their windows",
      "900 s of load above what is comfortable",
    ]);
  });
  it("says nothing of a plan without trouble", () => {
    expect(scoreWords(score({ strain_s: 5 }), seconds)).toEqual([]);
  });
});

describe("fallen", () => {
  it("falls from part to part to nothing", () => {
    const curve = [
      { seconds: 0, grades: [4, 0, 10] },
      { seconds: 1, grades: [2, 0, 12] },
      { seconds: 2, grades: [0, 0, 12] },
      { seconds: 3, grades: [0, 0, 0] },
    ];
    const values = fallen(curve).map((point) => point.value);
    expect(values).toEqual([...values].sort((a, b) => b - a));
    expect(values.at(-1)).toBe(0);
    expect(values[0]).toBeLessThanOrEqual(1);
  });
  it("has no line where nothing is known", () => {
    expect(fallen([])).toEqual([]);
  });
});

describe("newestFor", () => {
  const made = (id: number, asked: object): Computation =>
    ({
      id,
      kind: "balance",
      asked: asked as Computation["asked"],
      state: "done",
      stale: false,
      progress: {},
      result: null,
      message: "",
      actor: "",
      created_at: "",
      ended_at: null,
    }) as Computation;
  const found = [
    made(3, { draft: null, day: "2026-11-09", weeks: 2 }),
    made(2, { draft: 7, day: "2026-11-02" }),
    made(1, { draft: null, day: "2026-11-02" }),
  ];
  it("takes the newest of the plan in hand that covers the week", () => {
    expect(newestFor(found, null, "2026-11-06")?.id).toBe(1);
    expect(newestFor(found, null, "2026-11-20")?.id).toBe(3);
    expect(newestFor(found, { id: 7 } as Draft, "2026-11-03")?.id).toBe(2);
    expect(newestFor(found, null, "2026-12-20")).toBeUndefined();
    expect(newestFor(undefined, null, "2026-11-06")).toBeUndefined();
  });

  it("takes no answer to another question", () => {
    const lost = [{ happens: "LoseProxy", proxy: "quay-p2" }];
    const asked = made(4, { draft: null, day: "2026-11-02", happens: lost });
    expect(newestFor([asked, ...found], null, "2026-11-06")?.id).toBe(1);
    const same = [{ proxy: "quay-p2", happens: "LoseProxy" }];
    expect(newestFor([asked, ...found], null, "2026-11-06", same)?.id).toBe(4);
    const other = [{ happens: "LoseProxy", proxy: "quay-p1" }];
    expect(newestFor([asked, ...found], null, "2026-11-06", other)).toBeUndefined();
  });
});

describe("isStale", () => {
  const found = {
    stale: false,
    asked: { stands_on: "version 4, draft 2.7" },
  } as unknown as Computation;
  const plan = (draft: object | null) => ({ adopted_version: 4, draft }) as unknown as Plan;
  it("tells from the plan in hand, and believes the server", () => {
    expect(isStale(found, plan({ id: 2, revision: 7, base_version: 4 }))).toBe(false);
    expect(isStale(found, plan({ id: 2, revision: 8, base_version: 4 }))).toBe(true);
    expect(isStale(found, plan(null))).toBe(true);
    expect(
      isStale(
        { ...found, stale: true } as Computation,
        plan({ id: 2, revision: 7, base_version: 4 }),
      ),
    ).toBe(true);
  });
});

describe("happenings", () => {
  const plan = {
    loads: [
      { name: "slots:proxy:p1" },
      { name: "proxy:p1" },
      { name: "slots:proxy:p2" },
      { name: "link:l1" },
    ],
  } as unknown as Plan;
  const kind = (name: string) => HAPPENINGS.find((each) => each.happens === name)!;
  it("are said as the API takes them", () => {
    expect(happeningOf(kind("LinkAt"), "l1", 25, "")).toEqual({
      happens: "LinkAt",
      link: "l1",
      part: 0.25,
    });
    expect(happeningOf(kind("Grow"), "", 1.5, "")).toEqual({
      happens: "Grow",
      folder: null,
      factor: 1.5,
    });
    expect(happeningOf(kind("CloseNight"), "", 0, "2026-11-06")).toEqual({
      happens: "CloseNight",
      night: "2026-11-06",
    });
  });
  it("begin with each proxy lost, links halved, growth and a closed night", () => {
    const usual = usualScenarios(plan, "2026-11-06").flat();
    expect(usual.filter((h) => h.happens === "LoseProxy").map((h) => h["proxy"])).toEqual([
      "p1",
      "p2",
    ]);
    expect(usual.map((h) => h.happens)).toEqual([
      "LoseProxy",
      "LoseProxy",
      "LinkAt",
      "Grow",
      "CloseNight",
    ]);
  });
});

it("moves are the operations of a draft", () => {
  const operation = { operation: "MoveFull", job: "mail", schedule: 1, days: 2 };
  expect(operationsOf([{ operation } as unknown as ProposedMove])).toEqual([operation]);
});
