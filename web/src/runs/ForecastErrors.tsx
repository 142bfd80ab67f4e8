import { useQuery } from "@tanstack/react-query";
import { forecastErrorsQuery } from "../api/runQueries";
import { duration } from "../time/time";
import { Table } from "../ui/Table";
import { TableFiles } from "../ui/TableFiles";
import { count } from "../ui/words";

const later = (seconds: number) =>
  Math.abs(seconds) < 30
    ? "as predicted"
    : `${duration(Math.abs(seconds))} ${seconds > 0 ? "later" : "earlier"}`;

const share = (value: number) =>
  `${(value * 100).toLocaleString("en-GB", { maximumFractionDigits: 1 })} %`;

/** How good the forecasts of the past nights were: the last ends, and the ends of each job. */
export function ForecastErrors({ plan }: { plan: number }) {
  const found = useQuery(forecastErrorsQuery(plan));
  if (!found.data?.nights.length) return null;
  const { nights, jobs, median_s, median_share } = found.data;
  const quiet = nights.filter((night) => !night.trouble);
  const worst = quiet.toSorted((a, b) => Math.abs(b.error_s) - Math.abs(a.error_s))[0];
  const troubled = nights.length - quiet.length;
  return (
    <section aria-label="How good the forecasts were" className="max-w-[90ch] pt-4">
      <h2 className="text-lg font-semibold">
        How good the forecasts were{" "}
        <TableFiles of={`plans/${plan}/tables/forecast-errors`} what="Errors of the forecasts" />
      </h2>
      <p>
        {median_s !== null && median_share !== null && worst ? (
          <>
            In half of {count(quiet.length, "night")} without trouble the last end was off by no
            more than <strong>{duration(median_s)}</strong>, {share(median_share)} of the night. At
            worst it was {later(worst.error_s)}.
          </>
        ) : (
          "No night has passed without trouble yet."
        )}
        {troubled > 0 &&
          ` ${count(troubled, "night")} in which machines failed or something was ordered by hand ${
            troubled === 1 ? "does" : "do"
          } not count here.`}
      </p>
      {jobs.length > 0 && (
        <div
          tabIndex={0}
          role="region"
          aria-label="Errors by job"
          className="max-h-72 overflow-auto"
        >
          <Table
            caption="Ends of runs against their forecasts, by job"
            rows={jobs}
            idOf={(row) => row.job}
            columns={[
              { header: "Job", accessorFn: (row) => row.name },
              { header: "Runs", accessorFn: (row) => row.runs, meta: { right: true } },
              {
                header: "Usually ends",
                accessorFn: (row) => row.median_s,
                cell: (c) => later(c.row.original.median_s),
                meta: { right: true },
              },
              {
                header: "Nine of ten are off by at most",
                accessorFn: (row) => row.tenth_s,
                cell: (c) => duration(c.row.original.tenth_s),
                meta: { right: true },
              },
            ]}
          />
        </div>
      )}
    </section>
  );
}
