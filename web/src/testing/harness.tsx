/** What components are shown in: a plan, a workbench, an address, a client of the API. */

import { shelfOf } from "../workbench/unsaved";
import { QueryClient, QueryClientProvider } from "@tanstack/react-query";
import { render } from "@testing-library/react";
import { Tooltip } from "radix-ui";
import type { ReactNode } from "react";
import { BrowserRouter, useLocation } from "react-router";
import { vi } from "vitest";
import type { Draft, Job, Night, NightSummary, Plan, Reason, Run, Session } from "../api/client";
import { sessionQuery } from "../api/planQueries";
import type { Role } from "../api/settingsQueries";
import { type Workbench, WorkbenchStore } from "../workbench/store";

export const ZONE = "Europe/Dublin";
export const FRIDAY = "2026-11-06";

export function job(id: string, more: Partial<Job> = {}): Job {
  return {
    id,
    name: id.replaceAll("-", " "),
    priority: 3,
    locked: false,
    after: null,
    window: "night",
    repository: "quay-vault",
    machines: 4,
    used_gib: 400,
    clauses: [],
    schedules: [
      {
        position: 0,
        kind: "full",
        words: "on Friday at 21:00",
        start_time: "21:00",
        time_zone: ZONE,
        every_weeks: 1,
      },
      {
        position: 1,
        kind: "incremental",
        words: "every weekday at 20:00",
        start_time: "20:00",
        time_zone: ZONE,
        every_weeks: 1,
      },
    ],
    ...more,
  };
}

export function plan(more: Partial<Plan> = {}): Plan {
  return {
    id: 1,
    name: "larkmoor",
    adopted_version: 7,
    time_zone: ZONE,
    first_night: "2026-11-02",
    last_night: "2027-05-03",
    draft: null,
    open_drafts: [],
    jobs: [job("office-files"), job("mail", { locked: true })],
    loads: [],
    machines: 8,
    proxies: 4,
    repositories: 3,
    windows: 2,
    sites: 2,
    site_ids: ["quay", "hill"],
    host_ids: ["quay-h1"],
    ...more,
  };
}

export function draft(more: Partial<Draft> = {}): Draft {
  return {
    id: 5,
    plan_id: 1,
    name: "larkmoor, changed",
    revision: 2,
    base_version: 7,
    changes: [],
    can_redo: false,
    owner: null,
    shared: true,
    undone: [],
    ...more,
  };
}

export function summary(date: string, more: Partial<NightSummary> = {}): NightSummary {
  return {
    date,
    start: `${date}T12:00:00Z`,
    end: new Date(Date.parse(`${date}T12:00:00Z`) + 86_400_000).toISOString(),
    forecast: true,
    verdict: "fits",
    last_end: `${date}T23:10:00Z`,
    over_s: 0,
    runs: 12,
    missed: 0,
    reasons: [],
    tightest: {
      name: "proxy:quay-p2",
      label: "Proxy quay-p2",
      unit: "MiB/s",
      peak: 100,
      capacity: 200,
      full_s: 0,
      waiting_jobs: [],
    },
    silhouette: {
      name: "slots:proxy:quay-p2",
      label: "Slots of proxy quay-p2",
      load: Array<number>(96).fill(0.5),
      waiting: Array<number>(96).fill(0),
      opens: 0.3,
      closes: 0.75,
    },
    ...more,
  };
}

/** Monday to Sunday; what differs of a night stands under its date. */
export function week(more: Record<string, Partial<NightSummary>> = {}): NightSummary[] {
  return [2, 3, 4, 5, 6, 7, 8].map((day) => {
    const date = `2026-11-0${day}`;
    return summary(date, more[date]);
  });
}

export function run(more: Partial<Run> = {}): Run {
  return {
    job: "office-files",
    occurrence: "2026-11-06T21:00:00.000Z",
    kind: "full",
    runs_as: "full",
    synthetic: false,
    schedule: 0,
    outcome: "done",
    began: "2026-11-06T21:00:00.000Z",
    first_start: "2026-11-06T21:30:00.000Z",
    moved: "2026-11-07T05:00:00.000Z",
    ended: "2026-11-07T05:10:00.000Z",
    window_opens: "2026-11-06T20:00:00.000Z",
    window_end: "2026-11-07T06:00:00.000Z",
    over_s: 0,
    machines: 4,
    done: 4,
    source_bytes: 4e12,
    wire_bytes: 2e12,
    stored_bytes: 2e12,
    squeezes: [],
    proxies: [],
    ...more,
  };
}

export function reason(more: Partial<Reason> = {}): Reason {
  return {
    kind: "over the window",
    job: "office-files",
    machine: null,
    occurrence: "2026-11-06T21:00:00.000Z",
    runs: 1,
    machines: 0,
    seconds: 6240,
    squeeze: "proxy:quay-p2",
    squeeze_s: 100,
    waited_for: null,
    waited_s: 0,
    moving_s: 13_440,
    finishing_s: 20,
    ...more,
  };
}

export function night(date = FRIDAY, more: Partial<Night> = {}): Night {
  return {
    ...summary(date),
    time_zone: ZONE,
    windows: [],
    run_list: [run()],
    copies: [],
    loads: [],
    ...more,
  };
}

/** A workbench whose acts do nothing but be counted. */
export function workbench(more: Partial<Workbench> = {}): Workbench {
  const shown = more.plan ?? plan();
  return {
    plan: shown,
    draft: shown.draft,
    shelf: shelfOf(shown.id, shown.draft?.id ?? null),
    jobs: new Map(shown.jobs.map((j) => [j.id, j])),
    date: FRIDAY,
    goTo: vi.fn(),
    loads: null,
    setLoads: vi.fn(),
    night: night(),
    week: week(),
    awaited: [],
    adoptedWeek: week(),
    savedWeek: week(),
    nightError: null,
    moves: [],
    attempting: null,
    attempt: vi.fn(),
    adopting: false,
    setAdopting: vi.fn(),
    move: vi.fn(),
    undo: vi.fn(),
    discard: vi.fn(),
    resume: vi.fn(),
    save: vi.fn(),
    put: vi.fn(() => Promise.resolve(true)),
    tryOut: vi.fn(),
    tried: null,
    consider: vi.fn(),
    considered: [],
    refused: null,
    redo: vi.fn(),
    adopt: vi.fn(() => Promise.resolve(true)),
    clash: null,
    settleClash: vi.fn(),
    busy: null,
    problem: null,
    say: vi.fn(),
    words: [],
    ...more,
  };
}

function Address() {
  const { pathname, search } = useLocation();
  return <span data-testid="address">{pathname + search}</span>;
}

/** Who is signed in, with a role. */
export const session = (role: Role): Session => ({
  signed_in: true,
  name: "Planner",
  role,
  has_password: false,
  provider: null,
  csrf_token: "x",
});

/** Show something without a workbench. */
export function show(ui: ReactNode, address = `/board/${FRIDAY}`, role: Role = "administer") {
  const client = new QueryClient({ defaultOptions: { queries: { retry: false } } });
  client.setQueryData(sessionQuery.queryKey, session(role));
  window.history.replaceState(null, "", address);
  return render(
    <QueryClientProvider client={client}>
      <Tooltip.Provider delayDuration={0}>
        <BrowserRouter>
          {ui}
          <Address />
        </BrowserRouter>
      </Tooltip.Provider>
    </QueryClientProvider>,
  );
}

/** Show something in a workbench, which is returned. */
export function showIn(
  ui: ReactNode,
  more: Partial<Workbench> = {},
  address?: string,
  role?: Role,
) {
  const bench = workbench(more);
  show(<WorkbenchStore value={bench}>{ui}</WorkbenchStore>, address, role);
  return bench;
}
