import type { Runway } from "../api/runwayQueries";
import { Table } from "../ui/Table";
import { gib, percent } from "../ui/words";
import { monthWords, peaksByMonth } from "./axis";

/** The same as the panels, as a table: the most that each repository holds in each month. */
export function SpaceTable({ runway }: { runway: Runway }) {
  const peaks = runway.repositories.map((life) => peaksByMonth(runway, life));
  const rows = runway.months.map((month, i) => ({ month: month.name, number: i }));
  return (
    <div className="px-4 pt-2">
      <Table
        caption="The most that each repository holds in each month"
        rows={rows}
        idOf={(row) => row.month}
        columns={[
          {
            id: "month",
            header: "Month",
            accessorFn: (row) => row.month,
            cell: ({ row }) => monthWords(row.original.month),
          },
          ...runway.repositories.map((life, r) => ({
            id: life.id,
            header: life.id,
            accessorFn: (row: { number: number }) => peaks[r]![row.number]!.gib,
            meta: { right: true },
            cell: ({ row }: { row: { original: { number: number } } }) => {
              const held = peaks[r]![row.original.number]!.gib;
              const part = life.capacity_gib === null ? null : held / life.capacity_gib;
              return (
                <span className={part !== null && part > 1 ? "font-semibold text-barn" : ""}>
                  {gib(held)}
                  {part !== null && `, ${percent(part)}`}
                </span>
              );
            },
          })),
        ]}
      />
    </div>
  );
}
