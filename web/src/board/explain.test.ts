import { describe, expect, it } from "vitest";
import type { Job, Reason, Run } from "../api/client";
import { amount, bytes, count, resource } from "../ui/words";
import { kindOf, reasonWords, runLabel, runLines } from "./explain";

const ZONE = "Europe/Dublin";
const jobs = new Map([["files", { id: "files", name: "File servers" } as Job]]);

function reason(more: Partial<Reason>): Reason {
  return {
    kind: "over the window",
    job: "files",
    machine: null,
    occurrence: "2026-11-06T21:00:00.000Z",
    runs: 1,
    machines: 0,
    seconds: 6240,
    squeeze: "proxy:quay-p2",
    squeeze_s: 100,
    waited_for: "proxy:quay-p2",
    waited_s: 25_200,
    moving_s: 13_440,
    finishing_s: 20,
    ...more,
  };
}

const run = {
  job: "files",
  occurrence: "2026-11-06T21:00:00.000Z",
  kind: "full",
  runs_as: "full",
  synthetic: false,
  outcome: "done",
  first_start: "2026-11-07T03:59:00.000Z",
  ended: "2026-11-07T07:43:00.000Z",
  machines: 6,
  done: 6,
  source_bytes: 9e12,
  stored_bytes: 7e12,
  over_s: 6180,
  squeezes: [{ name: "link:quay-hill", label: "", seconds: 3600 }],
} as unknown as Run;

describe("reasons", () => {
  it("say what, how much and why", () => {
    expect(reasonWords(reason({}), jobs, ZONE)).toEqual({
      what: "File servers: ends 1 h 44 min late",
      why: "its last machine waits 7 h for slots of proxy quay-p2; it moves for 3 h 44 min, held back by proxy quay-p2",
    });
  });
  it("lay a late end to the verify where that took longest", () => {
    const late = reason({ waited_s: 0, moving_s: 60, finishing_s: 18_900 });
    expect(reasonWords(late, jobs, ZONE).why).toBe("release and verify take 5 h 15 min");
  });
  it("count machines and runs", () => {
    expect(reasonWords(reason({ kind: "missed", machines: 16 }), jobs, ZONE).what).toBe(
      "File servers: 16 machines missed",
    );
    expect(reasonWords(reason({ kind: "skipped", runs: 6 }), jobs, ZONE).what).toBe(
      "File servers: 6 runs skipped",
    );
    expect(reasonWords(reason({ kind: "no path", machines: 1 }), jobs, ZONE).what).toContain(
      "no path for 1 machine",
    );
    const rpo = reason({ kind: "RPO breaks", job: null, machine: "db-1" });
    expect(reasonWords(rpo, jobs, ZONE).what).toBe("db-1: RPO breaks Fri 21:00");
  });
});

describe("runs", () => {
  it("tell their whole story", () => {
    expect(runLines(run, ZONE)).toEqual([
      "Due Fri 21:00, starts Sat 03:59, ends Sat 07:43; waits 6 h 59 min",
      "6 of 6 machines done; 8.2 TiB read, 6.4 TiB stored",
      "Its disks were held back by link quay-hill (1 h)",
      "1 h 43 min late",
    ]);
    expect(runLabel(run, jobs.get("files"), ZONE)).toMatch(/^File servers, full, done\. Due Fri/);
  });
  it("say when nothing started or the run was skipped", () => {
    expect(runLines({ ...run, first_start: null, source_bytes: 0 }, ZONE)[0]).toContain(
      "no machine",
    );
    expect(runLines({ ...run, outcome: "skipped" }, ZONE)).toHaveLength(1);
  });
  it("name a synthetic full", () => {
    expect(kindOf({ ...run, synthetic: true })).toBe("synthetic full");
  });
});

describe("units", () => {
  it("are those of the trade", () => {
    expect([5e8, 5e9, 5e11, 5e13].map(bytes)).toEqual([
      "477 MiB",
      "4.7 GiB",
      "466 GiB",
      "45.5 TiB",
    ]);
    expect(amount(1, "slots")).toBe("1 slot");
    expect(amount(1600, "Mbit/s")).toBe("1.6 Gbit/s");
    expect(amount(720, "MiB/s")).toBe("720 MiB/s");
    expect([count(1, "job"), count(2, "job"), count(2, "proxy")]).toEqual([
      "1 job",
      "2 jobs",
      "2 proxies",
    ]);
  });
  it("name resources and pools", () => {
    expect(resource("slots:proxy:quay-p2")).toBe("slots of proxy quay-p2");
    expect(resource("server_nic:gate-1")).toBe("NIC of gate-1");
    expect(resource("transport:")).toBe("the ceiling of one stream");
  });
});
