import { useQuery } from "@tanstack/react-query";
import { learnedRatiosQuery } from "../api/runQueries";
import { inHundredths, ratio } from "../workbench/learned";
import { LearnedFacts } from "../workbench/LearnedFacts";
import { LearnedRule } from "../workbench/LearnedRule";
import { count } from "../ui/words";

/** How well machines compress as their incrementals show it, beside what is stated. */
export function LearnedRatios({ plan }: { plan: number }) {
  const found = useQuery(learnedRatiosQuery(plan));
  return (
    <LearnedFacts
      plan={plan}
      fact="compress_ratio"
      what="compress ratio"
      label="Compress ratio as it was learned"
      title="Compress ratio, as the incrementals show it"
      table="learned-ratios"
      rows={found.data?.machines ?? []}
      known={found.data !== undefined}
      error={found.error}
      valueOf={(row) => row.learned}
      said={ratio}
      differs={(row) => row.otherwise}
      only="Only where what is stated does not hold"
      none="No machine has enough incrementals in the ledger yet that compress what changed."
      columns={[
        {
          id: "learned",
          header: "Learned",
          accessorFn: (row) => row.learned,
          meta: { right: true },
          cell: ({ row }) => (
            <>
              <b>{ratio(row.original.learned)}</b>{" "}
              <span className="text-ink-2">± {inHundredths(row.original.error)}</span>
            </>
          ),
        },
        {
          id: "rests",
          header: "Rests on",
          accessorFn: (row) => row.runs,
          meta: { right: true },
          cell: ({ row: { original: row } }) =>
            count(row.runs, "run") + (row.left_out > 0 ? `, ${row.left_out} left out` : ""),
        },
      ]}
      rule={
        found.data && <LearnedRule plan={plan} kind="learned ratio" on={found.data.by_itself} />
      }
    >
      What was read of a machine over what was sent of it, of runs that compress and read only what
      changed. Less than stated sends more through proxies and links than the forecasts have.
    </LearnedFacts>
  );
}
