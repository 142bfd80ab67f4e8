import { useMutation } from "@tanstack/react-query";
import { useEffect } from "react";
import {
  type Loss,
  type Recovery,
  type SecondCopies,
  secondCopies,
  type Way,
} from "../api/recoveryQueries";
import { clock, dateWords, dayClock } from "../time/time";
import { Button } from "../ui/Button";
import { count } from "../ui/words";
import { useWorkbench } from "../workbench/store";

/** What cannot come back, and the jobs whose copy elsewhere would have helped. */
export function Missing({ recovery, loss, way }: { recovery: Recovery; loss: Loss; way: Way }) {
  const { plan, draft, put, busy } = useWorkbench();
  const asked = JSON.stringify([draft?.revision, loss, way]);
  const copies = useMutation({ mutationFn: () => secondCopies(plan.id, draft, loss, way) });
  const { reset } = copies;
  // An answer belongs to the loss and the plan that were asked about.
  useEffect(reset, [asked, reset]);
  const named = (id: string) => plan.jobs.find((job) => job.id === id)?.name ?? id;
  if (!recovery.copies_missing.length) return null;
  const found = copies.data;
  return (
    <section aria-label="What a copy would have saved" className="max-w-3xl py-3">
      <h2 className="font-semibold">No point is left of these jobs</h2>
      <p>
        {recovery.copies_missing.map(named).join(", ")}. All their points lay where they are lost: a
        copy to another site would have saved them.
      </p>
      {!found && (
        <Button small disabled={copies.isPending} onClick={() => copies.mutate()}>
          {copies.isPending ? "Copying and losing it again …" : "See what copies would have saved"}
        </Button>
      )}
      {copies.error && (
        <p role="alert" className="text-barn">
          {copies.error.message}
        </p>
      )}
      {found && (
        <div role="status">
          {found.copies.length === 0 ? (
            <p>No route leads to a repository that is left: a link or a repository comes first.</p>
          ) : (
            <>
              <p>
                {places(found, named)}: {found.back_then} instead of {count(found.back, "machine")}{" "}
                come back
                {found.last_back_then &&
                  `, the last ${dayClock(found.last_back_then, recovery.time_zone)}`}
                .
              </p>
              <p>{costs(found, recovery.time_zone)}</p>
              <Button
                small
                disabled={busy === "saving"}
                onClick={() => void put(found.operations as Parameters<typeof put>[0])}
              >
                Put the copies into {draft ? "the draft" : "a draft"}
              </Button>
            </>
          )}
        </div>
      )}
    </section>
  );
}

/** "15 jobs copied to hill-disk", and a few jobs by name. */
function places(found: SecondCopies, named: (id: string) => string): string {
  const jobs = new Map<string, string[]>();
  for (const { job, repository } of found.copies)
    jobs.set(repository, [...(jobs.get(repository) ?? []), named(job)]);
  return [...jobs]
    .map(
      ([to, all]) =>
        `${all.length > 2 ? count(all.length, "job") : all.join(", ")} copied to ${to}`,
    )
    .join("; ");
}

/** "It costs the week: Fri ends 08:12 instead of 07:45, over." */
function costs(found: SecondCopies, zone: string): string {
  if (!found.nights.length) return "No night of the week ends otherwise.";
  const said = found.nights.map(({ before, after }) => {
    const ends = after.last_end ? `ends ${clock(after.last_end, zone)}` : "has no end";
    const was = before.last_end ? ` instead of ${clock(before.last_end, zone)}` : "";
    return `${dateWords(after.date).short} ${ends}${was}, ${after.verdict}`;
  });
  return `It costs the week: ${said.join("; ")}.`;
}
