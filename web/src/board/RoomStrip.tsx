import { useQuery } from "@tanstack/react-query";
import { clsx } from "clsx";
import type { Job, Run } from "../api/client";
import { askRoom, type RunKind, type Start } from "../api/jobQueries";
import { useWorkbench } from "../workbench/store";
import { MINUTE, millis } from "../time/time";
import { Button } from "../ui/Button";
import { useRoving } from "../ui/roving";
import { Hint } from "../ui/Hint";
import { LABEL_WIDTH, type TimeScale, xOf } from "./geometry";

const STEP = 30 * MINUTE;

/**
 * Where is room? Every half hour of the night tried for one job, under the axis; a choice moves
 * its start.
 */
export function RoomStrip({
  job,
  run,
  scale,
  onClose,
}: {
  job: Job;
  run: Run | null;
  scale: TimeScale;
  onClose: () => void;
}) {
  const { plan, draft, date, move } = useWorkbench();
  const kind = (run?.kind ?? job.schedules[0]?.kind ?? "full") as RunKind;
  const found = useQuery({
    queryKey: ["plan", plan.id, "room", draft?.id, draft?.revision, date, job.id, kind],
    queryFn: ({ signal }) =>
      askRoom(
        plan.id,
        { draft: draft?.id ?? null, operations: [], job: job.id, kind, night: date },
        signal,
      ),
    staleTime: Infinity,
  });
  const roving = useRoving<HTMLDivElement>();
  const use = (start: Start) => {
    if (run?.schedule === null || run?.schedule === undefined) return;
    move({
      type: "start",
      job: job.id,
      schedule: run.schedule,
      minutes: Math.round((millis(start.at) - millis(run.occurrence)) / MINUTE),
    });
  };
  return (
    <div
      ref={roving}
      className="relative flex h-7 shrink-0 items-center"
      role="group"
      aria-label={`Where is room for ${job.name}`}
    >
      <span className="flex items-center gap-1 truncate pl-4" style={{ width: LABEL_WIDTH }}>
        <span className="truncate">Room for {job.name}</span>
        <Button small look="plain" onClick={onClose}>
          Close
        </Button>
      </span>
      <span className="relative block h-full overflow-hidden" style={{ width: scale.width }}>
        {found.isPending && (
          <span role="status" className="absolute left-1 leading-7 text-ink-2">
            Trying every half hour …
          </span>
        )}
        {found.error && (
          <span role="alert" className="absolute left-1 leading-7 text-barn">
            {found.error.message}
          </span>
        )}
        {found.data?.starts.map((start) => {
          const left = xOf(scale, millis(start.at));
          const width = xOf(scale, millis(start.at) + STEP) - left - 1;
          if (left + width < 0 || left > scale.width) return null;
          return (
            <Hint key={start.at} text={`Starts ${start.local.slice(11)}: ${start.why}`}>
              <button
                type="button"
                aria-label={`Start ${start.local.slice(11)}: ${start.verdict}, ${start.why}`}
                onClick={() => use(start)}
                className={clsx(
                  "absolute top-1 h-5 border",
                  start.verdict === "fits"
                    ? "border-sage bg-sage"
                    : start.verdict === "tight"
                      ? "border-hay bg-raised"
                      : "border-barn bg-barn-soft",
                  start.rank < 3 &&
                    start.verdict !== "over" &&
                    "outline-2 -outline-offset-2 outline-ink",
                )}
                style={{ left, width: Math.max(2, width) }}
              />
            </Hint>
          );
        })}
      </span>
    </div>
  );
}
