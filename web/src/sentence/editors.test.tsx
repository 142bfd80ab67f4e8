// @vitest-environment jsdom
import { cleanup, screen, waitFor, within } from "@testing-library/react";
import { userEvent } from "@testing-library/user-event";
import { useState } from "react";
import { describe, expect, it } from "vitest";
import { showIn } from "../testing/harness";
import { answering } from "../testing/server";
import { ClauseEditor, titleOf } from "./editors/ClauseEditor";
import { localWords } from "./editors/localWords";
import type { Choices, Look } from "../api/jobQueries";
import type { Operation } from "../api/client";
import { type JobValue, type PointsElsewhere, pointsTaken } from "./value";

const OFFERED = {
  repositories: ["quay-vault", "hill-vault"],
  proxies: ["quay-p1", "quay-p2"],
  windows: ["night", "weekend"],
  calendars: ["holidays"],
  networks: ["storage"],
  time_zones: ["Europe/Dublin", "UTC"],
  jobs: [
    { id: "files", name: "Files" },
    { id: "mail", name: "Mail" },
  ],
  fields: { folder: ["is", "under"], tag: ["has"], used_gib: ["at_least"], powered_on: ["is"] },
  disk_fields: { only_swap: ["is"], holds_backups: ["is"], disk: ["contains"] },
  values: { folder: ["office", "lab"], tag: ["gold"] },
} as unknown as Choices;

const FILES: JobValue = {
  id: "files",
  name: "Files",
  priority: 3,
  share: 1,
  repository: "quay-vault",
  window: "night",
  at_window_end: "run_on",
  machines: { ids: ["fs-01", "fs-02"], rules: [], exclude: [] },
  machine_order: "listed",
  after: null,
  schedules: [
    {
      kind: "full",
      rrule: "FREQ=WEEKLY;BYDAY=FR",
      start: "2026-10-02T21:00",
      time_zone: "Europe/Dublin",
    },
  ],
  retention: { points: 14 },
  destinations: [],
  copies: [],
  exclude_disks: [],
  exclude_disk_rules: [],
  exclude_paths: [],
  exclude_reasons: [],
  notify_to: [],
  notify: "never",
  proxies: null,
  transport: "auto",
  verify: "none",
  boot_min: 10,
  verify_fulls: true,
  chain: "incremental",
  synthetic_full: false,
  tracking: true,
  on_hold: false,
  hold_until: null,
  start_within_min: null,
  stop_after_min: null,
  guest_before_s: 0,
  quiesce_s: 12,
  if_quiesce_fails: "as it is",
  standstill: "none",
  standstill_s: 5,
  guest_after_s: 0,
  before_min: 0,
  after_min: 0,
  compress: true,
  skip_swap: true,
  skip_unused: true,
  encrypt: false,
  encrypt_factor: 0.8,
  max_streams: null,
  limit_mbit_per_s: null,
};

const LOOK = {
  machines: 2,
  joins: "Whoever joins the folder joins the job.",
  points_before: 14,
  points_elsewhere: [],
  problems: [],
  schedules: [
    {
      words: "on Friday at 21:00",
      a_day: null,
      upcoming: [
        { at: "2026-11-06T21:00:00Z", local: "2026-11-06T21:00", kind: "full", note: "" },
        {
          at: "2026-12-25T21:00:00Z",
          local: "2026-12-25T21:00",
          kind: null,
          note: "dropped: holidays",
        },
      ],
    },
  ],
  selected: [{ machine: "fs-01", disks: ["0", "1"] }],
} as unknown as Look;

/** An editor of one clause with a job that changes as it is edited; all that was set, in turn. */
async function edit(
  clause: string,
  value: Partial<JobValue> = {},
  wrong: Record<string, string> = {},
  look: Look = LOOK,
) {
  const set: Record<string, unknown>[] = [];
  const operations: Operation[][] = [];
  function Edited() {
    const [goesOnFrom, goOnFrom] = useState<readonly PointsElsewhere[]>([]);
    const [job, setJob] = useState<JobValue>({ ...FILES, ...value } as JobValue);
    const change = (more: Record<string, unknown>) => {
      set.push(more);
      setJob((now) => ({ ...now, ...more }) as JobValue);
    };
    return (
      <ClauseEditor
        clause={clause}
        look={look}
        edit={{
          value: job,
          set: change,
          wrong: (key) => wrong[key] ?? null,
          operations: [],
          goesOnFrom,
          goOnFrom: (points) => {
            operations.push(pointsTaken(job, points));
            goOnFrom(points);
          },
        }}
      />
    );
  }
  answering({
    "GET /jobs/choices": () => OFFERED,
    "POST /jobs/say": ({ body }) => {
      const { text } = body as { text: string };
      return text === "every weekday at 20:00"
        ? {
            schedule: {
              kind: "full",
              rrule: "FREQ=WEEKLY;BYDAY=MO,TU,WE,TH,FR",
              start: "2026-11-06T20:00",
              time_zone: "Europe/Dublin",
            },
            reason: null,
          }
        : { schedule: null, reason: "say a time, such as at 20:00" };
    },
  });
  showIn(<Edited />);
  await waitFor(() => expect(screen.queryByText("Reading what there is …")).toBeNull());
  return { set, operations, user: userEvent.setup() };
}

/**
 * The name of a button by its words: between its parts there may be no space outside of a browser.
 */
const words = (name: string) =>
  new RegExp(`^${name.replaceAll(/[.*+?()]/g, "\\$&").replaceAll(" ", String.raw`\s*`)}$`);

async function pick(
  user: ReturnType<typeof userEvent.setup>,
  label: string | RegExp,
  option: string,
) {
  await user.click(
    screen.getByRole("button", { name: typeof label === "string" ? words(label) : label }),
  );
  await user.click(await screen.findByRole("menuitemradio", { name: option }));
}

describe("every editor", () => {
  it("has a title, and says what is wrong with its clause and nothing of the others", async () => {
    const problems = [
      { clause: "to", weight: "stops", words: "There is no such repository." },
      { clause: "to", weight: "look", words: "No copy elsewhere." },
      { clause: "kept", weight: "stops", words: "Of another clause." },
    ];
    await edit("to", {}, {}, { ...LOOK, problems } as unknown as Look);
    expect(screen.getByText("✕ There is no such repository.")).toBeDefined();
    expect(screen.getByText("▲ No copy elsewhere.")).toBeDefined();
    expect(screen.queryByText(/Of another clause/)).toBeNull();
    expect(titleOf("to")).toBe("Where to");
  });

  it("gives the focus to its first field", async () => {
    await edit("rank");
    expect(document.activeElement?.textContent).toMatch(/^Priority/);
  });
});

describe("what is backed up", () => {
  it("is told with who would join later", async () => {
    await edit("machines");
    expect(screen.getByRole("status").textContent).toContain(
      "2 machines now. Whoever joins the folder joins the job.",
    );
  });

  it("takes rules and their conditions", async () => {
    const { set, user } = await edit("machines");
    await user.click(screen.getByRole("button", { name: "A rule" }));
    expect(set.at(-1)).toMatchObject({
      machines: { rules: [[{ field: "folder", op: "is", value: "office" }]] },
    });
    await user.click(screen.getByRole("button", { name: "and" }));
    expect(set.at(-1)).toMatchObject({
      machines: { rules: [[{ field: "folder" }, { field: "tag", op: "has", value: "gold" }]] },
    });
    await user.click(screen.getByRole("button", { name: "Or another rule" }));
    expect((set.at(-1) as { machines: { rules: unknown[] } }).machines.rules).toHaveLength(2);
    await user.click(screen.getByRole("button", { name: "Take away the condition on tag" }));
    expect(set.at(-1)).toMatchObject({
      machines: { rules: [[{ field: "folder" }], [{ field: "folder" }]] },
    });
  });

  it("goes on at the value of a rule that was added, which typing replaces", async () => {
    const { set, user } = await edit("machines");
    screen.getByRole("button", { name: "A rule" }).focus();
    await user.keyboard("{Enter}lab");
    expect(document.activeElement).toBe(screen.getByLabelText("Value for folder"));
    expect(set.at(-1)).toMatchObject({
      machines: { rules: [[{ field: "folder", op: "is", value: "lab" }]] },
    });
    screen.getByRole("button", { name: "and" }).focus();
    await user.keyboard("{Enter}silver");
    expect(set.at(-1)).toMatchObject({
      machines: { rules: [[{ value: "lab" }, { field: "tag", value: "silver" }]] },
    });
  });

  it("loses a rule with its last condition", async () => {
    const { set, user } = await edit("machines", {
      machines: { ids: [], exclude: [], rules: [[{ field: "folder", op: "is", value: "lab" }]] },
    });
    await user.click(screen.getByRole("button", { name: "Take away the condition on folder" }));
    expect(set.at(-1)).toMatchObject({ machines: { rules: [] } });
  });

  it("changes a value as it is typed, and leaves it while what is typed is no number", async () => {
    const rules = [[{ field: "used_gib", op: "at_least", value: 100 }]];
    const { set, user } = await edit("machines", { machines: { ids: [], exclude: [], rules } });
    const field = screen.getByLabelText("Value for used GiB");
    await user.clear(field);
    await user.type(field, "x");
    expect(set).toEqual([]);
    await user.clear(field);
    await user.type(field, "2,5");
    expect(set.at(-1)).toMatchObject({ machines: { rules: [[{ value: 2.5 }]] } });
  });

  it("offers yes and no where a field is one or the other", async () => {
    const rules = [[{ field: "powered_on", op: "is", value: true }]];
    const { set, user } = await edit("machines", { machines: { ids: [], exclude: [], rules } });
    await pick(user, "is yes", "no");
    expect(set.at(-1)).toMatchObject({
      machines: { rules: [[{ field: "powered_on", value: false }]] },
    });
  });

  it("takes machines by name, in an order, and leaves them out again", async () => {
    const { set, user } = await edit("machines");
    await user.type(screen.getByLabelText("Machine to take in"), " fs-03 {Enter}");
    expect(set.at(-1)).toMatchObject({ machines: { ids: ["fs-01", "fs-02", "fs-03"] } });
    await user.click(screen.getByRole("button", { name: "fs-03 earlier" }));
    expect(set.at(-1)).toMatchObject({ machines: { ids: ["fs-01", "fs-03", "fs-02"] } });
    await user.click(screen.getByRole("button", { name: "Take fs-01 out" }));
    expect(set.at(-1)).toMatchObject({ machines: { ids: ["fs-03", "fs-02"], exclude: [] } });
    const names = within(
      screen.getByRole("list", { name: "Machines by name, in order" }),
    ).getAllByRole("listitem");
    expect(names.map((name) => name.textContent)).toEqual(["fs-03", "fs-02"]);
  });

  it("takes in again who was left out by name", async () => {
    const machines = {
      ids: [],
      rules: [[{ field: "folder", op: "is", value: "lab" }]],
      exclude: ["fs-09"],
    };
    const { set, user } = await edit("machines", { machines });
    await user.click(screen.getByRole("button", { name: "Take fs-09 in again" }));
    expect(set.at(-1)).toMatchObject({ machines: { exclude: [] } });
  });

  it("leaves disks out by rule and by hand, and paths with their size", async () => {
    const { set, user } = await edit("machines", { exclude_disks: [["fs-01", "2"]] });
    await user.click(screen.getByRole("button", { name: "swap disks" }));
    expect(set.at(-1)).toEqual({
      exclude_disk_rules: [{ field: "only_swap", op: "is", value: true }],
    });
    await user.click(screen.getByRole("button", { name: "Take disk 2 of fs-01 in again" }));
    expect(set.at(-1)).toEqual({ exclude_disks: [] });
    await pick(user, "Machine", "fs-01");
    await pick(user, "Disk", "1");
    await user.type(screen.getByLabelText("Path"), "/var/cache");
    expect(screen.getByRole("button", { name: "Leave the path out" })).toHaveProperty(
      "disabled",
      true,
    );
    await user.type(screen.getByLabelText("GiB there"), "7,5");
    await user.click(screen.getByRole("button", { name: "Leave the path out" }));
    expect(set.at(-1)).toEqual({
      exclude_paths: [{ machine: "fs-01", disk: "1", path: "/var/cache", gib: 7.5 }],
    });
  });
});

describe("when it runs", () => {
  it("shows what comes next, with what falls on no day of it", async () => {
    await edit("runs");
    const next = within(
      screen.getByRole("list", { name: "Next occurrences of schedule 1" }),
    ).getAllByRole("listitem");
    expect(next.map((entry) => entry.textContent?.trim())).toEqual([
      "Fri 6 Nov 21:00",
      "Fri 25 Dec 21:00 dropped: holidays",
    ]);
    expect(localWords("2026-03-29T01:30")).toBe("Sun 29 Mar 01:30");
  });

  it("is heard as it is said, and says what it does not understand", async () => {
    const { set, user } = await edit("runs");
    const field = screen.getByLabelText("When, as you would say it");
    expect(field).toHaveProperty("value", "on Friday at 21:00");
    await user.clear(field);
    await user.type(field, "every weekday");
    expect(await screen.findByText("say a time, such as at 20:00")).toBeDefined();
    expect(set).toEqual([]);
    await user.type(field, " at 20:00");
    await waitFor(() =>
      expect(set.at(-1)).toMatchObject({
        schedules: [{ rrule: "FREQ=WEEKLY;BYDAY=MO,TU,WE,TH,FR" }],
      }),
    );
    expect(screen.queryByText("say a time, such as at 20:00")).toBeNull();
  });

  it("has several schedules, or follows another job, not both", async () => {
    const { set, user } = await edit("runs");
    await user.click(screen.getByRole("button", { name: "Another schedule" }));
    expect((set.at(-1) as { schedules: unknown[] }).schedules).toHaveLength(2);
    await user.click(screen.getByRole("button", { name: "Take schedule 1 away" }));
    expect((set.at(-1) as { schedules: unknown[] }).schedules).toHaveLength(1);
    await pick(user, "Runs by its own schedules", "after Mail");
    expect(set.at(-1)).toEqual({ after: "mail", schedules: [] });
    expect(screen.queryByRole("button", { name: "Another schedule" })).toBeNull();
  });

  it("skips the dates of a calendar, and says what becomes of them", async () => {
    const { set, user } = await edit("runs");
    await user.click(screen.getByRole("button", { name: words("Not on no calendar") }));
    await user.click(await screen.findByRole("menuitemcheckbox", { name: "holidays" }));
    expect(set.at(-1)).toMatchObject({ schedules: [{ skip: ["holidays"] }] });
    await user.keyboard("{Escape}");
    await pick(user, "What falls there is dropped", "moves to the next free day");
    expect(set.at(-1)).toMatchObject({
      schedules: [{ skip: ["holidays"], when_skipped: "next_day" }],
    });
  });

  it("is held until a date, which goes when it runs again", async () => {
    const { set, user } = await edit("runs");
    await user.click(screen.getByLabelText("It does not run for now"));
    const until = screen.getByLabelText("Until (empty: until somebody lets it run)");
    await user.type(until, "2026-12-01");
    expect(set.at(-1)).toEqual({ hold_until: "2026-12-01" });
    await user.click(screen.getByLabelText("It does not run for now"));
    expect(set.at(-1)).toEqual({ on_hold: false, hold_until: null });
  });
});

describe("the other clauses", () => {
  it("choose a repository, and say what that does to the chain", async () => {
    const { set, user } = await edit("to");
    expect(screen.getByText(/goes on from 14 restore points/)).toBeDefined();
    await pick(user, "Repository quay-vault", "hill-vault");
    expect(set.at(-1)).toEqual({ repository: "hill-vault" });
  });

  it("choose a window, or none", async () => {
    const { set, user } = await edit("window");
    await pick(user, "Window night", "none: at any hour");
    expect(set.at(-1)).toEqual({ window: null });
    await user.type(screen.getByLabelText("Must start within (min)"), "30");
    expect(set.at(-1)).toEqual({ start_within_min: 30 });
    await user.clear(screen.getByLabelText("Must start within (min)"));
    expect(set.at(-1)).toEqual({ start_within_min: null });
  });

  it("choose proxies; none chosen is any", async () => {
    const { set, user } = await edit("readers");
    await user.click(screen.getByRole("button", { name: words("Read by any proxy") }));
    await user.click(await screen.findByRole("menuitemcheckbox", { name: "quay-p2" }));
    expect(set.at(-1)).toEqual({ proxies: ["quay-p2"] });
    await user.click(screen.getByRole("menuitemcheckbox", { name: "quay-p2" }));
    expect(set.at(-1)).toEqual({ proxies: null });
  });

  it("keep points by any of their rules", async () => {
    const { set, user } = await edit("kept");
    await user.clear(screen.getByLabelText("Newest points"));
    expect(set.at(-1)).toMatchObject({ retention: { points: null, weekly: 0 } });
    await user.type(screen.getByLabelText("of a month (months)"), "6");
    expect(set.at(-1)).toMatchObject({ retention: { points: null, monthly: 6 } });
    await user.type(screen.getByLabelText("Everything until (date)"), "2027-01-31");
    expect(set.at(-1)).toMatchObject({ retention: { monthly: 6, until: "2027-01-31" } });
    await user.clear(screen.getByLabelText("Everything until (date)"));
    expect(set.at(-1)).toMatchObject({ retention: { monthly: 6, until: null } });
  });

  it("check by a boot test with its minutes", async () => {
    const { set, user } = await edit("check");
    expect(screen.queryByLabelText("A boot test takes (min)")).toBeNull();
    await pick(user, "Checked by nothing", "a boot test");
    expect(set.at(-1)).toEqual({ verify: "boot" });
    const minutes = screen.getByLabelText("A boot test takes (min)");
    await user.clear(minutes);
    expect(screen.getByText("write a number")).toBeDefined();
    await user.type(minutes, "7");
    expect(set.at(-1)).toEqual({ boot_min: 7 });
    await user.click(screen.getByLabelText("Fulls too"));
    expect(set.at(-1)).toEqual({ verify_fulls: false });
  });

  it("copy to another repository with a retention of its own", async () => {
    const { set, user } = await edit("copies");
    await user.click(screen.getByRole("button", { name: "A copy" }));
    expect(set.at(-1)).toEqual({
      copies: [{ repository: "hill-vault", delay_min: 0, retention: { days: 30 } }],
    });
    await user.clear(screen.getByLabelText("Begins after (min)"));
    await user.type(screen.getByLabelText("Begins after (min)"), "45");
    expect(set.at(-1)).toMatchObject({ copies: [{ delay_min: 45 }] });
    await user.type(screen.getByLabelText("To the colder tier after (days)"), "60");
    expect(set.at(-1)).toMatchObject({ copies: [{ cold_after_days: 60 }] });
    await user.click(screen.getByRole("button", { name: "Take copy 1 away" }));
    expect(set.at(-1)).toEqual({ copies: [] });
  });

  it("send some machines of a job elsewhere", async () => {
    const { set, user } = await edit("to", {}, {}, LOOK);
    await user.click(screen.getByRole("button", { name: "Some machines elsewhere" }));
    const made = set.at(-1)!["destinations"] as { repository: string; rules: unknown[][] }[];
    expect(made).toHaveLength(1);
    expect(made[0]!.repository).not.toBe(FILES.repository);
    expect(FILES.copies.map((copy) => copy.repository)).not.toContain(made[0]!.repository);
    expect(made[0]!.rules).toEqual([[expect.objectContaining({ field: "name", op: "is" })]]);
    // Without a rule it names nobody, and goes.
    await user.click(screen.getByRole("button", { name: `No machines to ${made[0]!.repository}` }));
    expect(set.at(-1)).toEqual({ destinations: [] });
  });

  it("go on from points elsewhere, which are then taken over or carried", async () => {
    const elsewhere = [
      {
        job: "files",
        repository: "old-disk",
        points: 84,
        machines: 3,
        full_bytes: 2 ** 40,
        carried: true,
      },
      {
        job: "web",
        repository: FILES.repository,
        points: 9,
        machines: 1,
        full_bytes: 2 ** 30,
        carried: false,
      },
    ];
    const look = { ...LOOK, points_before: 0, points_elsewhere: elsewhere } as unknown as Look;
    const { operations, user } = await edit("to", {}, {}, look);
    expect(screen.getByText(/each machine begins with a full/)).toBeTruthy();
    await user.click(
      screen.getByLabelText(
        "Its 84 points in old-disk, once carried here: no second full of 3 machines, 1 TiB less",
      ),
    );
    expect(operations.at(-1)).toEqual([
      { operation: "CarryPoints", job: "files", from_repository: "old-disk" },
    ]);
    await user.click(
      screen.getByLabelText("9 points of web: no second full of 1 machine, 1 GiB less"),
    );
    expect(operations.at(-1)).toEqual([
      { operation: "TakeOverPoints", job: "files", from_job: "web" },
      { operation: "CarryPoints", job: "files", from_repository: "old-disk" },
    ]);
    await user.click(screen.getByLabelText(/^Its 84 points/));
    expect(operations.at(-1)).toEqual([
      { operation: "TakeOverPoints", job: "files", from_job: "web" },
    ]);
    // In yet another repository nothing has been said of them.
    await pick(user, `Repository ${FILES.repository}`, "hill-vault");
    expect(operations.at(-1)).toEqual([]);
    expect(screen.getByLabelText(/^9 points of web/)).toHaveProperty("checked", false);
  });

  it("prepare each machine and the whole run", async () => {
    const { set, user } = await edit("preparation", {}, { quiesce_s: "is not above 0" });
    expect(screen.getByText("is not above 0")).toBeDefined();
    await pick(user, /Where it cannot be quiesced/, "left out");
    expect(set.at(-1)).toEqual({ if_quiesce_fails: "leave out" });
    const before = screen.getByLabelText("Before the first machine (min)");
    await user.clear(before);
    await user.type(before, "3");
    expect(set.at(-1)).toEqual({ before_min: 3 });
  });

  it("say what encrypting costs only where it is done", async () => {
    const { set, user } = await edit("reduction");
    expect(screen.queryByLabelText(/Encrypting leaves/)).toBeNull();
    await user.click(screen.getByLabelText("Encrypted"));
    const left = screen.getByLabelText("Encrypting leaves of a stream's speed (%)");
    expect(left).toHaveProperty("value", "80");
    await user.clear(left);
    await user.type(left, "65");
    expect(set.at(-1)).toEqual({ encrypt_factor: 0.65 });
  });

  it("rank, limit and tell", async () => {
    const { set, user } = await edit("rank");
    await pick(user, "Priority 3", "5, the first");
    expect(set.at(-1)).toEqual({ priority: 5 });
  });

  it("limit streams and bandwidth, or neither", async () => {
    const { set, user } = await edit("limits", { max_streams: 4 });
    await user.clear(screen.getByLabelText("Streams at once"));
    expect(set.at(-1)).toEqual({ max_streams: null });
    await user.type(screen.getByLabelText("Bandwidth (Mbit/s)"), "300");
    expect(set.at(-1)).toEqual({ limit_mbit_per_s: 300 });
  });

  it("say which window is the default where a job names none", async () => {
    const look = { ...LOOK, default_window: "late" } as unknown as Look;
    const { set, user } = await edit("window", {}, {}, look);
    await pick(user, "Window night", "late, the default of its machines");
    expect(set.at(-1)).toEqual({ window: null });
  });

  it("hold a job to a network, and let it go again", async () => {
    const held = await edit("limits");
    await pick(held.user, "Network each machine's own", "storage only");
    expect(held.set.at(-1)).toEqual({ network: "storage" });
    cleanup();
    const free = await edit("limits", { network: "storage" });
    await pick(free.user, "Network storage only", "each machine's own");
    expect(free.set.at(-1)).toEqual({ network: null });
  });

  it("tell several people, each of them once", async () => {
    const { set, user } = await edit("notices");
    await user.type(screen.getByLabelText("Whom, separated by commas"), "ada, bo,, ada");
    expect(set.at(-1)).toEqual({ notify_to: ["ada", "bo"] });
  });
});
