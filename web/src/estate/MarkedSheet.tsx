import { useState } from "react";
import { Button } from "../ui/Button";
import { Choice } from "../ui/Choice";
import { Sheet } from "../ui/Sheet";
import { count } from "../ui/words";
import { changedNights } from "../workbench/changedNights";
import { useDiscardOnLeave } from "../workbench/considering";
import { useWorkbench } from "../workbench/store";
import { LeaveOut } from "./LeaveOut";

/** What can be done with all marked machines: into a job, or left out with one reason. */
export function MarkedSheet({
  machines,
  jobsOf,
  onClose,
  onDone,
}: {
  machines: string[];
  /** The jobs that protect a machine already. */
  jobsOf: (machine: string) => readonly string[];
  onClose: () => void;
  onDone: () => void;
}) {
  const { plan, consider, considered, refused, put, busy, week, savedWeek } = useWorkbench();
  const [job, setJob] = useState(plan.jobs.find((each) => !each.locked)?.id ?? "");
  useDiscardOnLeave();
  const joining = machines.filter((machine) => !jobsOf(machine).includes(job));
  const operations = joining.map((machine) => ({ operation: "IncludeMachine", job, machine }));
  const name = plan.jobs.find((each) => each.id === job)?.name ?? job;
  const lines = changedNights(savedWeek, week, plan.time_zone);
  return (
    <Sheet
      label="Marked machines"
      title={`${count(machines.length, "machine")} together`}
      onClose={onClose}
    >
      <p className="mb-3 text-ink-2">
        {machines.slice(0, 6).join(", ")}
        {machines.length > 6 && ` and ${machines.length - 6} more`}
      </p>
      <section aria-label="Into a job" className="mb-4">
        <h3 className="font-semibold">Into a job</h3>
        <Choice
          lead="Add to"
          value={job}
          options={plan.jobs
            .filter((each) => !each.locked)
            .map((each) => ({ value: each.id, label: each.name }))}
          onChange={(id) => {
            consider([]);
            setJob(id);
          }}
        />
        {joining.length < machines.length && (
          <p className="text-ink-2">
            {count(machines.length - joining.length, "machine")} of them in {name} already.
          </p>
        )}
        <p className="mt-1 flex gap-2">
          <Button disabled={!joining.length || busy !== null} onClick={() => consider(operations)}>
            See the week
          </Button>
          <Button
            look="strong"
            disabled={!joining.length || busy === "saving"}
            onClick={() => void put(operations).then((done) => done && onDone())}
          >
            Add to draft
          </Button>
        </p>
        {refused && (
          <p role="alert" className="text-barn">
            {refused.message}
          </p>
        )}
        {considered.length > 0 && !refused && (
          <div role="status" className="mt-1">
            {lines.length ? (
              lines.map((line) => <p key={line}>{line}</p>)
            ) : (
              <p className="text-ink-2">No night changes.</p>
            )}
          </div>
        )}
      </section>
      <section aria-label="Left out on purpose">
        <h3 className="font-semibold">Left out on purpose</h3>
        <LeaveOut machines={machines} opened onDone={onDone} />
      </section>
    </Sheet>
  );
}
