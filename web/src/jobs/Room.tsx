import { clsx } from "clsx";
import { type ReactNode, useEffect, useMemo, useRef, useState } from "react";
import { useWorkbench } from "../workbench/store";
import { addDays, dateWords, dayClock, mondayOf } from "../time/time";
import { Button } from "../ui/Button";
import { useRoving } from "../ui/roving";
import { Hint } from "../ui/Hint";
import { Verdict } from "../ui/Verdict";
import { Pick } from "../ui/controls";
import { askRoom, type RunKind, type Start } from "../api/jobQueries";
import type { JobEdit } from "../sentence/useJobEdit";
import { bestStarts, codeOf, CODES, type ScheduleValue, weeklyAt } from "../sentence/value";

/** A night's starts with their ends, and whether they can be told yet. */
export type AskNight = (night: string, signal: AbortSignal) => Promise<{ starts: Start[] }>;

/**
 * For every start of the week the end that a run would have; the three best are named.
 *
 * @param question says all of what is asked: another text asks anew.
 */
export function RoomGrid({
  question,
  ask,
  picker,
  onUse,
}: {
  question: string;
  ask: AskNight;
  picker?: ReactNode;
  onUse: (start: Start) => void;
}) {
  const { plan, date } = useWorkbench();
  const roving = useRoving<HTMLDivElement>();
  const [found, setFound] = useState<ReadonlyMap<string, Start[]>>(new Map());
  const [running, setRunning] = useState(false);
  const [problem, setProblem] = useState<string | null>(null);
  const flight = useRef<AbortController | null>(null);
  const monday = mondayOf(date);
  const latest = useRef(ask);
  useEffect(() => {
    latest.current = ask;
  });
  useEffect(() => {
    const control = new AbortController();
    flight.current = control;
    const walk = async () => {
      setFound(new Map());
      setProblem(null);
      setRunning(true);
      for (let i = 0; i < 7 && !control.signal.aborted; i++) {
        const night = addDays(monday, i);
        const answer = await latest.current(night, control.signal);
        if (control.signal.aborted) return;
        setFound((before) => new Map(before).set(night, answer.starts));
      }
    };
    walk()
      .catch((error: unknown) => {
        if (!control.signal.aborted) setProblem((error as Error).message);
      })
      .finally(() => {
        if (!control.signal.aborted) setRunning(false);
      });
    return () => control.abort();
  }, [question, monday]);
  const best = useMemo(
    () => bestStarts([...found.values()].flat().filter((s) => s.verdict !== "over" && !s.opens)),
    [found],
  );
  return (
    <>
      <div className="flex items-center gap-3">
        {picker}
        <p role="status" className="flex-1 text-ink-2">
          {running
            ? `${found.size} of 7 nights tried …`
            : problem
              ? ""
              : "Every half hour of the week, each simulated with all other jobs as they are."}
        </p>
        {running && (
          <Button
            small
            onClick={() => {
              flight.current?.abort();
              setRunning(false);
            }}
          >
            Stop
          </Button>
        )}
      </div>
      {problem && (
        <p role="alert" className="text-barn">
          {problem}
        </p>
      )}
      <div
        ref={roving}
        className="max-w-[1100px]"
        role="group"
        aria-label="Starts of the week; arrow keys go from one to the next"
      >
        {Array.from({ length: 7 }, (_, i) => addDays(monday, i)).map((night) => (
          <div key={night} data-row className="mb-1 grid grid-cols-[64px_1fr] items-center">
            <span className="font-medium">
              {dateWords(night).short} {dateWords(night).day}
            </span>
            <span className="grid grid-cols-[repeat(48,minmax(0,1fr))] gap-px">
              {(found.get(night) ?? []).map((start) => (
                <Hint key={start.at} text={`Starts ${start.local.slice(11)}: ${start.why}`}>
                  <button
                    type="button"
                    aria-label={`Start ${dateWords(night).short} ${start.local.slice(11)}: ${start.verdict}, ${start.why}`}
                    onClick={() => onUse(start)}
                    className={clsx(
                      "flex items-end border",
                      start.opens
                        ? "h-5 border-rule bg-closed"
                        : start.verdict === "fits"
                          ? "h-5 border-sage bg-sage"
                          : start.verdict === "tight"
                            ? "h-5 border-hay bg-raised"
                            : "h-5 border-barn bg-barn-soft",
                    )}
                  >
                    <i
                      aria-hidden
                      className={clsx(
                        "block w-full",
                        start.verdict === "over" ? "bg-barn" : "bg-ink",
                        best.includes(start) ? "h-[6px]" : "h-0",
                      )}
                    />
                  </button>
                </Hint>
              ))}
            </span>
          </div>
        ))}
        <p className="grid grid-cols-[64px_1fr] text-xs text-ink-2">
          <span />
          <span className="flex justify-between">
            <span>12:00</span>
            <span>18:00</span>
            <span>00:00</span>
            <span>06:00</span>
            <span>12:00</span>
          </span>
        </p>
        <p className="text-xs text-ink-2">
          Filled: fits. Outlined: tight. Pale with a red edge: misses its window or delays another
          job. Grey: its window is closed, so it only waits. Choose one to use it.
        </p>
      </div>
      {best.length > 0 && (
        <section aria-label="The best starts" className="mt-2">
          <h2 className="font-semibold">{running ? "The best so far" : "The three best"}</h2>
          <ol>
            {best.map((start) => (
              <li key={start.at} className="my-1 flex items-center gap-2">
                <strong className="w-20">{dayClock(start.at, plan.time_zone)}</strong>
                <Verdict verdict={start.verdict} />
                <span className="flex-1">{start.why}</span>
                <Button small onClick={() => onUse(start)}>
                  Use it
                </Button>
              </li>
            ))}
          </ol>
        </section>
      )}
      {!running && found.size === 7 && best.length === 0 && (
        <p>No start of this week fits: split the job, or widen its window.</p>
      )}
    </>
  );
}

/** Where there is room for a run of this job, and the schedule that would use it. */
export function Room({ edit, id }: { edit: JobEdit; id: string }) {
  const { plan, draft } = useWorkbench();
  const kinds = [...new Set(edit.value.schedules.map((s) => s.kind))];
  const [kind, setKind] = useState<RunKind>(
    (kinds.includes("full") ? "full" : (kinds[0] ?? "full")) as RunKind,
  );
  const asked = { draft: draft?.id ?? null, operations: edit.operations, job: id, kind };
  const use = (start: Start) => {
    const at = edit.value.schedules.findIndex((s) => s.kind === kind);
    const zone = edit.value.schedules[0]?.time_zone ?? plan.time_zone;
    const made: ScheduleValue = {
      ...(at >= 0 ? keepOf(edit.value.schedules[at]!) : {}),
      ...weeklyAt(kind, start.local, zone),
    };
    const rest = edit.value.schedules.map((s, i) =>
      i === at
        ? made
        : withoutDay(s, codeOf(start.local), at >= 0 ? dayOf(edit.value.schedules[at]!) : null),
    );
    edit.set({ schedules: at >= 0 ? rest : [...rest, made], after: null });
  };
  return (
    <RoomGrid
      question={`${draft?.revision} ${JSON.stringify(asked)}`}
      ask={(night, signal) => askRoom(plan.id, { ...asked, night }, signal)}
      onUse={use}
      picker={
        <Pick
          label="A run of kind"
          value={kind}
          options={["full", "incremental", "differential"]}
          onChange={(k) => setKind(k as RunKind)}
        />
      }
    />
  );
}

/** What of a schedule stays when it moves: calendars and its end. */
function keepOf(schedule: ScheduleValue): Record<string, unknown> {
  return Object.fromEntries(
    Object.entries(schedule).filter(([key]) =>
      ["skip", "when_skipped", "skip_dates", "until"].includes(key),
    ),
  );
}

function dayOf(schedule: ScheduleValue): string | null {
  const match = /^FREQ=WEEKLY;BYDAY=([A-Z]{2})$/.exec(String(schedule["rrule"] ?? ""));
  return match?.[1] ?? null;
}

/**
 * A weekly schedule that leaves a day to another run of the job, and takes that one's day for it.
 */
function withoutDay(schedule: ScheduleValue, day: string, freed: string | null): ScheduleValue {
  const match = /^FREQ=WEEKLY;BYDAY=([A-Z,]+)$/.exec(String(schedule["rrule"] ?? ""));
  const days = match?.[1]?.split(",") ?? [];
  if (!days.includes(day) || days.length < 2) return schedule;
  const kept = new Set(days.filter((d) => d !== day));
  if (freed && freed !== day) kept.add(freed);
  return {
    ...schedule,
    rrule: `FREQ=WEEKLY;BYDAY=${CODES.filter((code) => kept.has(code)).join(",")}`,
  };
}
