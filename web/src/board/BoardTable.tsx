import { TableFiles } from "../ui/TableFiles";
import type { ColumnDef } from "@tanstack/react-table";
import { useMemo } from "react";
import type { Run } from "../api/client";
import { useWorkbench } from "../workbench/store";
import { dayClock, duration } from "../time/time";
import { Table } from "../ui/Table";
import { bytes, resource } from "../ui/words";
import { kindOf } from "./explain";
import type { Lane } from "./geometry";
import { useMoveKeys } from "./useBoardKeys";

interface Row {
  id: string;
  name: string;
  priority: number;
  run: Run;
}

/** The board as a table: the same runs, for reading aloud, sorting and copying. */
export function BoardTable({
  lanes,
  chosen,
  onOpen,
}: {
  lanes: Lane[];
  chosen: string | null;
  onOpen: (job: string, run: Run | null) => void;
}) {
  const { plan, draft, date, jobs } = useWorkbench();
  const zone = plan.time_zone;
  const onKey = useMoveKeys(onOpen);
  const rows = useMemo(
    () =>
      lanes.flatMap((lane) =>
        lane.bars.map((bar): Row => ({
          id: bar.id,
          name: lane.job.name,
          priority: lane.job.priority,
          run: bar.run,
        })),
      ),
    [lanes],
  );
  const columns = useMemo((): ColumnDef<Row>[] => {
    const when = (instant: string | null) => (instant ? dayClock(instant, zone) : "–");
    const waited = (run: Run) =>
      run.first_start ? (Date.parse(run.first_start) - Date.parse(run.occurrence)) / 1000 : 0;
    const right = { right: true };
    return [
      { header: "Job", accessorFn: (row) => row.name },
      { header: "Kind", accessorFn: (row) => kindOf(row.run) },
      { header: "Priority", accessorFn: (row) => row.priority, meta: right },
      {
        header: "Due",
        accessorFn: (row) => row.run.occurrence,
        cell: (c) => when(c.row.original.run.occurrence),
      },
      {
        header: "Waits",
        accessorFn: (row) => waited(row.run),
        cell: (c) => duration(waited(c.row.original.run)),
        meta: right,
      },
      {
        header: "Starts",
        accessorFn: (row) => row.run.first_start ?? "",
        cell: (c) => when(c.row.original.run.first_start),
      },
      {
        header: "Ends",
        accessorFn: (row) => row.run.ended ?? "",
        cell: (c) => when(c.row.original.run.ended),
      },
      {
        header: "Past window",
        accessorFn: (row) => row.run.over_s,
        cell: (c) => {
          const over = c.row.original.run.over_s;
          return over > 0 ? <strong className="text-barn">{duration(over)}</strong> : "–";
        },
        meta: right,
      },
      {
        header: "Done",
        accessorFn: (row) => row.run.done,
        cell: (c) => `${c.row.original.run.done} of ${c.row.original.run.machines}`,
        meta: right,
      },
      {
        header: "Read",
        accessorFn: (row) => row.run.source_bytes,
        cell: (c) => bytes(c.row.original.run.source_bytes),
        meta: right,
      },
      { header: "Held back by", accessorFn: (row) => resource(row.run.squeezes[0]?.name ?? "") },
      { header: "Outcome", accessorFn: (row) => row.run.outcome },
    ];
  }, [zone]);
  return (
    <div
      role="region"
      aria-label="Runs as a table"
      tabIndex={0}
      className="min-h-0 flex-1 overflow-auto px-2"
    >
      <p className="py-1 text-right">
        <TableFiles
          of={`plans/${plan.id}/tables/runs`}
          what="Runs of the night"
          query={{ day: date, draft: draft?.id }}
        />
      </p>
      <Table
        caption="Runs of the night"
        rows={rows}
        columns={columns}
        idOf={(row) => row.id}
        chosen={rows.find((row) => row.run.job === chosen)?.id ?? null}
        onChoose={(row) => onOpen(row.run.job, row.run)}
        onKey={(event, row) => onKey(event, jobs.get(row.run.job), row.run)}
      />
    </div>
  );
}
