import { useQuery } from "@tanstack/react-query";
import { type LearnedTime, learnedTimesQuery } from "../api/runQueries";
import { duration } from "../time/time";
import { type Entry, LearnedIntoDraft } from "./LearnedIntoDraft";

/** How a step is called, and what states it. */
const STEPS: Readonly<Record<string, string>> = {
  preparing: "prepare",
  releasing: "release",
  verifying: "verify",
};

/** What a job states: seconds to the second, minutes to a tenth, as nights tell no more. */
const STATED: Readonly<Record<string, { name: string; unit: string; digits: number }>> = {
  quiesce_s: { name: "quiescing", unit: "s", digits: 0 },
  boot_min: { name: "boot test", unit: "min", digits: 1 },
};

const rounded = (row: LearnedTime) => Number(row.value!.toFixed(STATED[row.key!]!.digits));

function Stated({ row }: { row: LearnedTime }) {
  const told = row.key === null ? undefined : STATED[row.key];
  if (!told) return <span className="text-ink-2">the model alone</span>;
  return row.differs ? `${told.name}: ${rounded(row)} ${told.unit} would be true` : told.name;
}

const entryOf = (row: LearnedTime): Entry | null =>
  row.key === null || row.value === null || row.now === null
    ? null
    : {
        list: "jobs",
        id: row.job,
        key: row.key,
        value: rounded(row),
        now: row.now,
        before: row.stated_before,
        taken: row.taken,
      };

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
      entryOf={entryOf}
      said={(row, value) => `${value} ${STATED[row.key!]!.unit}`}
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
          cell: ({ row }) => <Stated row={row.original} />,
        },
      ]}
    >
      From what runners report of each machine. What a job states of it, how long it quiesces and
      how long a machine takes to start, goes into a draft; the rest follows from the model.
    </LearnedIntoDraft>
  );
}
