import { useQuery } from "@tanstack/react-query";
import { type FailureRate, failureRatesQuery } from "../api/runQueries";
import { Table } from "../ui/Table";
import { TableFiles } from "../ui/TableFiles";

/** Of rare failures two digits say what there is to say. */
const percentage = (value: number) =>
  `${(value * 100).toLocaleString("en-GB", { maximumSignificantDigits: 2 })} %`;

type Cell = { row: { original: FailureRate } };

const COLUMNS = [
  { header: "Machine", accessorFn: (row: FailureRate) => row.machine },
  { header: "Folder", accessorFn: (row: FailureRate) => row.folder },
  {
    header: "Failed",
    accessorFn: (row: FailureRate) => row.failed,
    cell: ({ row }: Cell) => `${row.original.failed} of ${row.original.runs} runs`,
    meta: { right: true },
  },
  {
    header: "Rate",
    accessorFn: (row: FailureRate) => row.rate,
    cell: ({ row: { original: row } }: Cell) => (
      <>
        <b className={row.plainly ? "text-barn" : ""}>{percentage(row.rate)}</b>{" "}
        <span className="text-ink-2">
          {percentage(row.low)} to {percentage(row.high)}
        </span>
      </>
    ),
    meta: { right: true },
  },
  {
    header: "Most often for",
    accessorFn: (row: FailureRate) => row.reason,
    cell: ({ row: { original: row } }: Cell) =>
      (row.reason || "no reason told") + (row.alike < row.failed ? ` (${row.alike})` : ""),
  },
];

/** How often machines failed in the last weeks, the worst first. */
export function FailureRates({ plan }: { plan: number }) {
  const found = useQuery(failureRatesQuery(plan));
  const rows = found.data?.machines ?? [];
  const plainly = rows.filter((row) => row.plainly).length;
  return (
    <section aria-label="How often machines fail" className="pt-4">
      <h2 className="text-lg font-semibold">
        How often machines fail{" "}
        <TableFiles of={`plans/${plan}/tables/failure-rates`} what="How often machines fail" />
      </h2>
      {found.error && (
        <p role="alert" className="text-barn">
          {found.error.message}
        </p>
      )}
      {found.data && (
        <p className="max-w-[80ch] text-ink-2">
          {rows.length
            ? `Of all runs of the last five weeks ${percentage(found.data.overall)} failed. A machine with few runs is taken to be somewhat like all others. `
            : "No machine has failed in the last five weeks."}
          {plainly > 0 && (
            <strong className="text-barn">
              {plainly === 1 ? "1 machine fails" : `${plainly} machines fail`} plainly more often
              than others.
            </strong>
          )}
        </p>
      )}
      {rows.length > 0 && (
        <Table
          caption="How often machines fail"
          rows={rows}
          idOf={(row) => row.machine}
          columns={COLUMNS}
        />
      )}
    </section>
  );
}
