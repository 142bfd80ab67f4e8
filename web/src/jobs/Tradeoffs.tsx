import { useQuery } from "@tanstack/react-query";
import { useMemo } from "react";
import { useWorkbench } from "../workbench/store";
import { duration } from "../time/time";
import { Button } from "../ui/Button";
import { Table } from "../ui/Table";
import { bytes } from "../ui/words";
import { tradeoffsQuery, type Way } from "../api/jobQueries";
import type { JobEdit } from "../sentence/useJobEdit";

/** What each way to keep fulls and changes costs these machines: simulated over five weeks. */
export function Tradeoffs({ edit, id }: { edit: JobEdit; id: string }) {
  const { plan, draft } = useWorkbench();
  const found = useQuery({
    ...tradeoffsQuery(plan, draft, id, edit.operations),
    placeholderData: (before) => before,
  });
  const { set } = edit;
  const columns = useMemo(() => {
    const right = { right: true };
    type Cell = { row: { original: Way } };
    return [
      {
        header: "Way",
        accessorFn: (w: Way) => w.words,
        cell: (c: Cell) => (
          <span className={c.row.original.now ? "font-semibold" : ""}>
            {c.row.original.words}
            {c.row.original.now && " · as it is"}
          </span>
        ),
      },
      {
        header: "Sent a week",
        accessorFn: (w: Way) => w.moved_bytes,
        cell: (c: Cell) => bytes(c.row.original.moved_bytes),
        meta: right,
      },
      {
        header: "Read a week",
        accessorFn: (w: Way) => w.read_bytes,
        cell: (c: Cell) => bytes(c.row.original.read_bytes),
        meta: right,
      },
      {
        header: "Usual run",
        accessorFn: (w: Way) => w.usual_s,
        cell: (c: Cell) => duration(c.row.original.usual_s),
        meta: right,
      },
      {
        header: "Longest run",
        accessorFn: (w: Way) => w.longest_s,
        cell: (c: Cell) => duration(c.row.original.longest_s),
        meta: right,
      },
      {
        header: "Space then",
        accessorFn: (w: Way) => w.space_bytes,
        cell: (c: Cell) => bytes(c.row.original.space_bytes),
        meta: right,
      },
      { header: "Longest chain", accessorFn: (w: Way) => w.chain_points, meta: right },
      {
        header: "Restore",
        accessorFn: (w: Way) => w.restore_s ?? Infinity,
        cell: (c: Cell) =>
          c.row.original.restore_s === null ? "no way" : duration(c.row.original.restore_s),
        meta: right,
      },
      {
        id: "use",
        header: () => <span className="sr-only">Use it</span>,
        accessorFn: () => "",
        cell: (c: Cell) =>
          Object.keys(c.row.original.changes).length > 0 && (
            <Button small look="plain" onClick={() => set(c.row.original.changes)}>
              Use it
            </Button>
          ),
      },
    ];
  }, [set]);
  if (found.error) return <p role="alert">{found.error.message}</p>;
  if (!found.data) return <p role="status">Playing five ways forward …</p>;
  return (
    <>
      <Table
        caption="Ways to keep fulls and changes"
        rows={found.data.ways}
        columns={columns}
        idOf={(w) => w.name}
      />
      <p className="pt-2 text-ink-2">
        Each way is played forward for {found.data.weeks} weeks from an empty repository, this job
        alone on its paths; the figures are those of the last week. “Restore” is the largest
        machine, {found.data.largest ?? "none"}, from its newest point.
      </p>
    </>
  );
}
