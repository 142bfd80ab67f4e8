import { Plus } from "lucide-react";
import { useCallback, useState } from "react";
import { useAddress } from "../workbench/address";
import { useEscape } from "../workbench/keys";
import { useWorkbench } from "../workbench/store";
import { Button } from "../ui/Button";
import { Checks } from "./Checks";
import { Drafts } from "./Drafts";
import { JobDesk } from "./JobDesk";
import { JobList } from "./JobList";
import { NewJob } from "./NewJob";
import type { JobValue } from "./value";

const PANES = ["all", "check", "drafts"] as const;
type Pane = (typeof PANES)[number];
const TITLES: Record<Pane, string> = { all: "All jobs", check: "Check", drafts: "Drafts" };

const keyOf = (plan: number) => `gambrel new job of plan ${plan}`;

/** Jobs: the list, one as a sentence, what speaks against the plan, the drafts. */
export function Jobs() {
  const { plan } = useWorkbench();
  const { search, set } = useAddress();
  const shown = search.get("show") ?? "all";
  const pane = (PANES as readonly string[]).includes(shown) ? (shown as Pane) : "all";
  const job = search.get("job");
  const starting = search.get("new") !== null;
  // A job that is not in a draft yet outlives a reload of the page.
  const [fresh, setFresh] = useState<JobValue | null>(() => {
    const kept = sessionStorage.getItem(keyOf(plan.id));
    return kept ? (JSON.parse(kept) as JobValue) : null;
  });
  const keep = useCallback(
    (value: JobValue | null) => {
      if (value) sessionStorage.setItem(keyOf(plan.id), JSON.stringify(value));
      else sessionStorage.removeItem(keyOf(plan.id));
      setFresh(value);
    },
    [plan.id],
  );
  const toList = useCallback(() => set({ job: null, clause: null, look: null, new: null }), [set]);
  useEscape(() => (search.get("clause") ? set({ clause: null }) : toList()));
  const known = plan.jobs.some((j) => j.id === job);
  const made = fresh && fresh.id === job && !known ? fresh : null;
  return (
    <div className="flex min-h-0 flex-1">
      {job && (known || made) ? (
        <JobDesk
          key={`${job} ${made ? "new" : ""}`}
          id={job}
          fresh={made}
          onFresh={keep}
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
            <Button look="strong" onClick={() => set({ new: "" })}>
              <Plus size={14} aria-hidden /> New job
            </Button>
          </div>
          {pane === "all" && <JobList onOpen={(id) => set({ job: id, clause: null })} />}
          {pane === "check" && <Checks onOpen={(id, clause) => set({ job: id, clause })} />}
          {pane === "drafts" && <Drafts />}
        </main>
      )}
      {starting && !job && (
        <NewJob
          machines={search.getAll("machine")}
          like={search.get("like")}
          onClose={toList}
          onBegun={(value) => {
            keep(value);
            set({
              new: null,
              machine: null,
              like: null,
              job: value.id,
              clause: value.machines.ids?.length ? null : "machines",
            });
          }}
        />
      )}
    </div>
  );
}
