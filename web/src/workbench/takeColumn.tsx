import type { ColumnDef } from "@tanstack/react-table";

/** The column of a table in which rows are ticked that shall be taken over. */
export const takeColumn = <R,>(
  some: ReadonlySet<string>,
  setSome: (some: ReadonlySet<string>) => void,
  idOf: (row: R) => string,
  labelOf: (row: R) => string,
  takes: (row: R) => boolean = () => true,
): ColumnDef<R> => ({
  id: "take",
  header: "Take",
  enableSorting: false,
  cell: ({ row }) =>
    takes(row.original) && (
      <input
        type="checkbox"
        aria-label={labelOf(row.original)}
        checked={some.has(idOf(row.original))}
        onChange={(event) => {
          const next = new Set(some);
          if (event.target.checked) next.add(idOf(row.original));
          else next.delete(idOf(row.original));
          setSome(next);
        }}
      />
    ),
});
