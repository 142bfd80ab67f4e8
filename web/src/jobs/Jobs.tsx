import { Allowed } from "../workbench/Allowed";
import { Plus } from "lucide-react";
import { useCallback } from "react";
import { planOf, useAddress } from "../workbench/address";
import { useEscape } from "../workbench/keys";
import { useWorkbench } from "../workbench/store";
import { keep, useUnsaved } from "../workbench/unsaved";
import { Button } from "../ui/Button";
import { Checks } from "./Checks";
import { Drafts } from "./Drafts";
import { ImaginedJob } from "./ImaginedJob";
import { JobDesk } from "./JobDesk";
import { JobList } from "./JobList";
import { NewJob } from "./NewJob";
import { Timetable } from "./Timetable";
import { editsOf, type JobEdits, NO_EDITS } from "../sentence/useJobEdit";
import type { JobValue } from "../sentence/value";

const PANES = ["all", "check", "room", "timetable", "drafts"] as const;
type Pane = (typeof PANES)[number];
const TITLES: Record<Pane, string> = {
  all: "All jobs",
  check: "Check",
  room: "Where is room?",
  timetable: "From a timetable",
  drafts: "Drafts",
};

/** The address of a job in this view, with the plan and draft that are shown. */
function withJob(id: string): string {
  const kept = new URLSearchParams(planOf(new URLSearchParams(window.location.search)));
  kept.set("job", id);
  return `${window.location.pathname}?${kept.toString()}`;
}

/** Jobs: the list, one as a sentence, what speaks against the plan, the drafts. */
export function Jobs() {
  const { plan, shelf } = useWorkbench();
  const { search, set } = useAddress();
  const shown = search.get("show") ?? "all";
  const pane = (PANES as readonly string[]).includes(shown) ? (shown as Pane) : "all";
  const job = search.get("job");
  const starting = search.get("new") !== null;
  const unsaved = useUnsaved<JobEdits>(
    `job ${job}`,
    (edits) =>
      edits.fresh
        ? `new job ${edits.fresh.name}`
        : `job ${plan.jobs.find((j) => j.id === job)?.name ?? job}`,
    NO_EDITS,
    editsOf,
    job !== null,
  );
  const begin = (value: JobValue) => {
    const to = { job: value.id, clause: value.machines.ids?.length ? null : "machines" };
    set({ new: null, machine: null, like: null, show: null, imagine: null, ...to });
    // The address is that of the job from now on, so that it can be gone on with there.
    keep(shelf, `job ${value.id}`, {
      title: `new job ${value.name}`,
      at: Date.now(),
      value: { ...NO_EDITS, fresh: value },
      address: withJob(value.id),
      edits: 1,
    });
  };
  const toList = useCallback(() => set({ job: null, clause: null, look: null, new: null }), [set]);
  useEscape(() => (search.get("clause") ? set({ clause: null }) : toList()));
  const known = plan.jobs.some((j) => j.id === job);
  const made = known ? null : unsaved.value.fresh;
  return (
    <div className="flex min-h-0 flex-1 narrow:flex-col">
      {job && (known || made) ? (
        <JobDesk
          key={`${job} ${made ? "new" : ""}`}
          id={job}
          fresh={made}
          unsaved={unsaved}
          onClose={toList}
        />
      ) : (
        <main className="flex min-w-0 flex-1 flex-col" aria-label="Jobs">
          <div className="flex items-center gap-3 px-4 pt-2 pb-1">
            <h1 className="text-xl font-semibold">Jobs</h1>
            <nav aria-label="What of the jobs" className="flex gap-1">
              {PANES.map((each) => (
                <Button
                  key={each}
                  look="plain"
                  className={pane === each ? "bg-closed font-semibold" : ""}
                  aria-current={pane === each ? "page" : undefined}
                  onClick={() => set({ show: each === "all" ? null : each, job: null })}
                >
                  {TITLES[each]}
                </Button>
              ))}
            </nav>
            <span className="flex-1" />
            <Allowed>
              <Button look="strong" onClick={() => set({ new: "" })}>
                <Plus size={14} aria-hidden /> New job
              </Button>
            </Allowed>
          </div>
          {pane === "all" && <JobList onOpen={(id) => set({ job: id, clause: null })} />}
          {pane === "check" && <Checks onOpen={(id, clause) => set({ job: id, clause })} />}
          {pane === "room" && <ImaginedJob onBegun={begin} />}
          {pane === "timetable" && <Timetable onDone={() => set({ show: null })} />}
          {pane === "drafts" && <Drafts />}
        </main>
      )}
      {starting && !job && (
        <NewJob
          machines={search.getAll("machine")}
          like={search.get("like")}
          onClose={toList}
          onBegun={begin}
        />
      )}
    </div>
  );
}
