import {
  type ColumnDef,
  flexRender,
  getCoreRowModel,
  getSortedRowModel,
  type RowData,
  type SortingState,
  useReactTable,
} from "@tanstack/react-table";
import { clsx } from "clsx";
import { ArrowDown, ArrowUp } from "lucide-react";
import { type KeyboardEvent, useState } from "react";
import { useRoving } from "./roving";

declare module "@tanstack/react-table" {
  // eslint-disable-next-line @typescript-eslint/no-unused-vars
  interface ColumnMeta<TData extends RowData, TValue> {
    right?: boolean;
  }
}

interface Props<Row> {
  caption: string;
  rows: Row[];
  columns: ColumnDef<Row>[];
  idOf: (row: Row) => string;
  chosen?: string | null;
  onChoose?: (row: Row) => void;
  onKey?: (event: KeyboardEvent, row: Row) => void;
  sortedBy?: SortingState;
}

/** The one table: sortable, its rows reachable by keyboard where they can be chosen. */
export function Table<Row>(props: Props<Row>) {
  const { caption, rows, columns, idOf, chosen, onChoose, onKey } = props;
  const [sorting, setSorting] = useState<SortingState>(props.sortedBy ?? []);
  const table = useReactTable({
    data: rows,
    columns,
    state: { sorting },
    onSortingChange: setSorting,
    getRowId: idOf,
    getCoreRowModel: getCoreRowModel(),
    getSortedRowModel: getSortedRowModel(),
  });
  const roving = useRoving<HTMLTableElement>();
  return (
    <table ref={roving} role="table" className="reflows w-full border-collapse text-sm">
      <caption className="sr-only">{caption}</caption>
      <thead className="sticky top-0 z-10 bg-ground">
        {table.getHeaderGroups().map((group) => (
          <tr key={group.id}>
            {group.headers.map((header) => {
              const sorted = header.column.getIsSorted();
              const right = header.column.columnDef.meta?.right;
              return (
                <th
                  key={header.id}
                  scope="col"
                  aria-sort={
                    sorted === "asc" ? "ascending" : sorted === "desc" ? "descending" : "none"
                  }
                  className={clsx(
                    "border-b border-rule-strong py-1",
                    right ? "text-right" : "text-left",
                  )}
                >
                  <button
                    type="button"
                    className="inline-flex items-center gap-1 px-2 font-medium text-ink-2 hover:text-ink"
                    onClick={header.column.getToggleSortingHandler()}
                  >
                    {flexRender(header.column.columnDef.header, header.getContext())}
                    {sorted === "asc" && <ArrowUp size={12} aria-hidden />}
                    {sorted === "desc" && <ArrowDown size={12} aria-hidden />}
                  </button>
                </th>
              );
            })}
          </tr>
        ))}
      </thead>
      <tbody>
        {table.getRowModel().rows.map((row) => (
          <tr
            key={row.id}
            {...(onChoose && { tabIndex: 0, "aria-selected": row.id === chosen })}
            onClick={() => onChoose?.(row.original)}
            onKeyDown={(event) => {
              if (event.key === "Enter" && onChoose) onChoose(row.original);
              else onKey?.(event, row.original);
            }}
            className={clsx(
              "border-b border-rule",
              onChoose && "hover:bg-closed focus-visible:-outline-offset-2",
              row.id === chosen && "bg-closed",
            )}
          >
            {row.getVisibleCells().map((cell) => (
              <td
                key={cell.id}
                data-label={
                  typeof cell.column.columnDef.header === "string"
                    ? cell.column.columnDef.header
                    : undefined
                }
                className={clsx(
                  "px-2 py-1",
                  cell.column.columnDef.meta?.right && "text-right whitespace-nowrap",
                )}
              >
                {flexRender(cell.column.columnDef.cell, cell.getContext())}
              </td>
            ))}
          </tr>
        ))}
      </tbody>
    </table>
  );
}
