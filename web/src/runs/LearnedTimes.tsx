import { useQuery } from "@tanstack/react-query";
import { type LearnedTime, learnedTimesQuery } from "../api/runQueries";
import { duration } from "../time/time";
import { LearnedIntoDraft } from "./LearnedIntoDraft";

/** How a step is called, and what states it. */
const STEPS: Readonly<Record<string, string>> = {
  preparing: "prepare",
  releasing: "release",
  verifying: "verify",
};

/** Seconds to the second, minutes to a tenth: nights tell no more. */
const rounded = (row: LearnedTime) =>
  row.key === "boot_min" ? Number(row.value!.toFixed(1)) : Math.round(row.value!);

const differs = (row: LearnedTime) => row.differs;

const seconds = (value: number) => (value < 120 ? `${Math.round(value)} s` : duration(value));

/** How long machines prepare, release and verify, by job, as the nights show it. */
export function LearnedTimes({ plan }: { plan: number }) {
  const found = useQuery(learnedTimesQuery(plan));
  return (
    <LearnedIntoDraft
      plan={plan}
      what="time"
      label="Times as they were learned"
      title="Times to prepare, release and verify, as the nights show them"
      table="learned-times"
      rows={found.data?.times}
      error={found.error}
      idOf={(row) => `${row.job} ${row.step}`}
      nameOf={(row) => `${row.name} to ${STEPS[row.step]}`}
      differs={differs}
      takes={(row) => row.key !== null && row.value !== null}
      operationsOf={(rows) =>
        rows.map((row) => ({
          operation: "ChangeItem",
          list: "jobs",
          id: row.job,
          changes: { [row.key!]: rounded(row) },
        }))
      }
      none="No job has five nights in the ledger of the last five weeks yet."
      columns={[
        { id: "name", header: "Job", accessorFn: (row) => row.name },
        { id: "step", header: "To", accessorFn: (row) => STEPS[row.step] },
        {
          id: "predicted",
          header: "Predicted",
          accessorFn: (row) => row.predicted_s,
          meta: { right: true },
          cell: ({ row: { original: row } }) => seconds(row.predicted_s),
        },
        {
          id: "learned",
          header: "Learned",
          accessorFn: (row) => row.learned_s - row.predicted_s,
          meta: { right: true },
          cell: ({ row: { original: row } }) => (
            <>
              <b className={row.differs ? "text-barn" : ""}>{seconds(row.learned_s)}</b>{" "}
              {seconds(row.low_s) !== seconds(row.high_s) && (
                <span className="text-ink-2">
                  {seconds(row.low_s)} to {seconds(row.high_s)}
                </span>
              )}
            </>
          ),
        },
        {
          id: "states",
          header: "Stated by",
          accessorFn: (row) => row.key ?? "",
          cell: ({ row: { original: row } }) =>
            row.key === null ? (
              <span className="text-ink-2">the model alone</span>
            ) : (
              `${row.key === "boot_min" ? "boot test" : "quiescing"}${row.differs ? `: ${rounded(row)} ${row.key === "boot_min" ? "min" : "s"} would be true` : ""}`
            ),
        },
      ]}
    >
      From what runners report of each machine. What a job states of it, how long it quiesces and
      how long a machine takes to start, goes into a draft; the rest follows from the model.
    </LearnedIntoDraft>
  );
}
