import { useQuery } from "@tanstack/react-query";
import { useMemo, useState } from "react";
import type { Job, Operation } from "../api/client";
import { changedNights } from "../workbench/changedNights";
import { useConsiderWhileShown } from "../workbench/considering";
import { useWorkbench } from "../workbench/store";
import { duration } from "../time/time";
import { Button } from "../ui/Button";
import { Sheet } from "../ui/Sheet";
import { count } from "../ui/words";
import { Flag, Pick } from "../ui/controls";
import { askSplit, choicesQuery, type Group } from "../api/jobQueries";

/**
 * One job into even groups by what their fulls and incrementals take; the weeks are compared
 * first.
 */
export function SplitSheet({
  job,
  onClose,
  onDone,
}: {
  job: Job;
  onClose: () => void;
  onDone: () => void;
}) {
  const { plan, draft, refused, put, busy, week, savedWeek } = useWorkbench();
  const [number, setNumber] = useState(2);
  const [stagger, setStagger] = useState(true);
  const [elsewhere, setElsewhere] = useState<Record<string, string>>({});
  const offered = useQuery(choicesQuery(plan, draft));
  const split = useQuery({
    queryKey: ["plan", plan.id, "split", draft?.id, draft?.revision, job.id, number],
    queryFn: () =>
      askSplit(plan.id, { draft: draft?.id ?? null, operations: [], job: job.id, groups: number }),
    staleTime: Infinity,
    retry: false,
  });
  const groups = split.data?.groups;
  const operations = useMemo<Operation[]>(() => {
    if (!groups) return [];
    const parts = groups.slice(1).map(({ id, name, machines }) => ({
      id,
      name,
      machines,
      ...(elsewhere[id] && { repository: elsewhere[id] }),
    }));
    const fulls = job.schedules.filter((s) => s.kind === "full" && s.every_weeks !== null);
    // Weekly fulls go round the week: each group its own night.
    const moves = stagger
      ? groups.slice(1).flatMap((group, i) =>
          fulls.map((s): Operation => ({
            operation: "MoveFull",
            job: group.id,
            schedule: s.position,
            days: nightsApart(i + 1, groups.length),
          })),
        )
      : [];
    return [{ operation: "SplitJob", job: job.id, parts }, ...moves];
  }, [elsewhere, groups, job, stagger]);
  // Once it is saved the job is another one, of which nothing is asked any more.
  const [saving, setSaving] = useState(false);
  useConsiderWhileShown(saving ? [] : operations);
  const lines = changedNights(savedWeek, week, plan.time_zone);
  const most = (of: (g: Group) => number) => (groups ? Math.max(...groups.map(of)) : 0);
  return (
    <Sheet label="Split the job" title={`Split ${job.name}`} onClose={onClose}>
      <Pick
        label="Into"
        value={String(number)}
        options={[2, 3, 4, 5, 6, 8]
          .filter((n) => n <= job.machines)
          .map((n) => ({ value: String(n), label: count(n, "group") }))}
        onChange={(v) => setNumber(Number(v))}
      />
      <Flag
        label="Each group's fulls on a night of their own"
        value={stagger}
        onChange={setStagger}
      />
      {split.error && (
        <p role="alert" className="text-barn">
          {split.error.message}
        </p>
      )}
      {!groups && !split.error && <p role="status">Measuring its machines …</p>}
      {groups && (
        <>
          <ol aria-label="Groups" className="mb-2">
            {groups.map((group) => (
              <li key={group.id} className="mb-1.5 border-t border-rule pt-1">
                <p>
                  <strong>{group.name}</strong>, {count(group.machines.length, "machine")}
                </p>
                <p className="text-ink-2">
                  fulls {duration(group.full_s)}, incrementals {duration(group.incremental_s)}, one
                  after another
                </p>
                <span aria-hidden className="block h-1.5 bg-closed">
                  <i
                    className="block h-full bg-slate"
                    style={{
                      width: `${
                        (group.full_s /
                          Math.max(
                            1,
                            most((g) => g.full_s),
                          )) *
                        100
                      }%`,
                    }}
                  />
                </span>
                {group.id !== job.id && (
                  <Pick
                    label="To"
                    value={elsewhere[group.id] ?? ""}
                    options={[
                      { value: "", label: "the same repository" },
                      ...(offered.data?.repositories ?? []).filter((r) => r !== job.repository),
                    ]}
                    onChange={(v) => setElsewhere({ ...elsewhere, [group.id]: v })}
                  />
                )}
              </li>
            ))}
          </ol>
          <p className="mb-2 text-ink-2">
            Largest group {duration(most((g) => g.full_s))} of fulls; split by count it would be{" "}
            {duration(Math.max(...(split.data?.by_count ?? [0])))}. Restore points go along with the
            machines: no second full is needed. What comes to match later joins the first group.
          </p>
        </>
      )}
      {refused && (
        <p role="alert" className="text-barn">
          {refused.message}
        </p>
      )}
      {groups && !refused && (
        <div role="status" className="mb-3">
          <p className="font-medium">The week then{busy === "previewing" && ", simulating …"}</p>
          {lines.length ? (
            lines.map((line) => <p key={line}>{line}</p>)
          ) : (
            <p className="text-ink-2">No night changes.</p>
          )}
        </div>
      )}
      <p className="flex gap-2">
        <Button
          look="strong"
          disabled={!groups || refused !== null || busy === "saving"}
          onClick={() => {
            setSaving(true);
            void put(operations).then((done) => (done ? onDone() : setSaving(false)));
          }}
        >
          Add to draft
        </Button>
        <Button look="plain" onClick={onClose}>
          Discard
        </Button>
      </p>
    </Sheet>
  );
}

/** By how many days the fulls of a group move so that all groups spread over the week. */
export function nightsApart(group: number, groups: number): number {
  return Math.max(1, Math.floor((group * 7) / groups));
}
