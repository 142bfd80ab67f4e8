import { useQuery } from "@tanstack/react-query";
import { learnedChangesQuery } from "../api/runQueries";
import { changesOtherwise, percentage } from "../workbench/learned";
import { LearnedFacts } from "../workbench/LearnedFacts";
import { LearnedRule } from "../workbench/LearnedRule";
import { dateClock } from "../time/time";
import { count } from "../ui/words";

/** Factors nearer to 1 than this are the usual change. */
const USUAL = 0.1;
const DAYS = ["Mon", "Tue", "Wed", "Thu", "Fri", "Sat", "Sun"] as const;

/** The weekdays in whose nights more or less changes than usual: "Sat × 0.35, Sun × 0.35". */
export const weekdayWords = (factors: readonly number[]) =>
  factors
    .map((factor, i) => (Math.abs(factor - 1) < USUAL ? "" : `${DAYS[i]} × ${factor.toFixed(2)}`))
    .filter(Boolean)
    .join(", ");

/** The daily change of machines as their incrementals show it, beside what is stated. */
export function LearnedChanges({ plan, zone }: { plan: number; zone: string }) {
  const found = useQuery(learnedChangesQuery(plan));
  const turned = found.data?.machines.filter((row) => row.since !== null) ?? [];
  return (
    <LearnedFacts
      plan={plan}
      fact="daily_change"
      what="daily change"
      label="Daily change as it was learned"
      title="Daily change, as the incrementals show it"
      table="learned-changes"
      rows={found.data?.machines ?? []}
      known={found.data !== undefined}
      error={found.error}
      valueOf={(row) => row.learned}
      differs={changesOtherwise}
      only="Only where what is stated does not hold"
      none="No machine has enough incrementals in the ledger yet: five of the last five weeks are needed."
      columns={[
        {
          id: "learned",
          header: "Learned a day",
          accessorFn: (row) => row.learned,
          meta: { right: true },
          cell: ({ row }) => (
            <>
              <b>{percentage(row.original.learned)}</b>{" "}
              <span className="text-ink-2">± {percentage(row.original.error)}</span>
            </>
          ),
        },
        {
          id: "weekdays",
          header: "Weekdays",
          accessorFn: (row) =>
            Math.max(...(row.by_weekday ?? []).map((f) => Math.abs(Math.log(f))), 0),
          cell: ({ row }) => weekdayWords(row.original.by_weekday ?? []),
        },
        {
          id: "rests",
          header: "Rests on",
          accessorFn: (row) => row.runs,
          meta: { right: true },
          cell: ({ row: { original: row } }) => (
            <>
              {count(row.runs, "run")}
              {row.left_out > 0 && `, ${row.left_out} left out`}
              {row.since && (
                <strong className="text-barn"> since {dateClock(row.since, zone)}</strong>
              )}
            </>
          ),
        },
      ]}
      rule={
        found.data && <LearnedRule plan={plan} kind="learned change" on={found.data.by_itself} />
      }
    >
      What an incremental brings has changed since the run before. Few odd runs do not count for
      much, and a machine with few runs is taken to be somewhat like the others of its folder. What
      is taken over counts in every forecast from then on.
      {turned.length > 0 && (
        <strong className="text-barn">
          {" "}
          {count(turned.length, "machine")} changed plainly more or less than before:{" "}
          {turned
            .slice(0, 3)
            .map((row) => row.machine)
            .join(", ")}
          {turned.length > 3 && " …"}.
        </strong>
      )}
    </LearnedFacts>
  );
}
