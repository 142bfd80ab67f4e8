import { useQuery } from "@tanstack/react-query";
import type { List } from "../api/pathQueries";
import { type LearnedRate, learnedRatesQuery } from "../api/runQueries";
import { type Entry, LearnedIntoDraft } from "./LearnedIntoDraft";

/** Three digits say all that nights can tell of a rate. */
const rounded = (value: number) => Number(value.toPrecision(3));

const rate = (value: number) => rounded(value).toLocaleString("en-GB");

/** Who shares a rate is never quite as predicted: what differs by less says nothing against it. */
const PLAIN = 0.03;

/** Whether the nights speak against what is stated. */
const differs = (row: LearnedRate) =>
  (row.stated < row.low || row.stated > row.high) &&
  Math.abs(row.learned - row.stated) > PLAIN * row.stated;

const entryOf = (row: LearnedRate): Entry => ({
  list: row.list as List | null,
  id: row.id,
  key: row.key,
  value: rounded(row.learned),
  now: row.now ?? row.stated,
  before: row.stated_before,
  taken: row.taken,
});

/** Rates of streams and shared resources as the nights show them, beside what is stated. */
export function LearnedRates({ plan }: { plan: number }) {
  const found = useQuery(learnedRatesQuery(plan));
  return (
    <LearnedIntoDraft
      plan={plan}
      what="rate"
      label="Rates as they were learned"
      title="Rates, as the nights show them"
      table="learned-rates"
      rows={found.data?.rates}
      error={found.error}
      idOf={(row) => row.what}
      nameOf={(row) => row.words}
      differs={differs}
      entryOf={entryOf}
      said={(row, value) => `${rate(value)} ${row.unit}`}
      none="No rate has been shown by five nights of the last five weeks yet."
      columns={[
        { id: "words", header: "Rate of", accessorFn: (row) => row.words },
        {
          id: "stated",
          header: "In the plan",
          accessorFn: (row) => row.stated,
          meta: { right: true },
          cell: ({ row: { original: row } }) => `${rate(row.stated)} ${row.unit}`,
        },
        {
          id: "learned",
          header: "Learned",
          accessorFn: (row) => row.learned / row.stated,
          meta: { right: true },
          cell: ({ row: { original: row } }) => (
            <>
              <b className={differs(row) ? "text-barn" : ""}>
                {rate(row.learned)} {row.unit}
              </b>{" "}
              <span className="text-ink-2">
                {rate(row.low)} to {rate(row.high)}
              </span>
            </>
          ),
        },
        {
          id: "spread",
          header: "Night to night",
          accessorFn: (row) => row.spread,
          meta: { right: true },
          cell: ({ row }) => `± ${(row.original.spread * 100).toFixed(0)} %`,
        },
      ]}
    >
      Machines that were held back by one thing for most of their time tell how fast it is. What is
      taken over goes into a draft, where you see what it does to the week before you adopt it.
    </LearnedIntoDraft>
  );
}
