import { TableFiles } from "../ui/TableFiles";
import type { ColumnDef } from "@tanstack/react-table";
import { useWorkbench } from "../workbench/store";
import { Table } from "../ui/Table";
import { amount, percent } from "../ui/words";
import { mainLoad, siteOfStore, squeezes } from "./layout";
import { type Item, type ItemLoad, type List, NOUNS, type PathsAnswer } from "../api/pathQueries";

interface Row {
  list: List;
  item: Item;
  site: string;
  load: ItemLoad | undefined;
  now: number;
  capacity: number | undefined;
  waiting: number;
}

const columns: ColumnDef<Row>[] = [
  { id: "kind", header: "Kind", accessorFn: (row) => NOUNS[row.list] },
  {
    id: "name",
    header: "Name",
    accessorFn: (row) => row.item.label,
    cell: (c) => <span className="font-medium">{c.row.original.item.label}</span>,
  },
  { id: "site", header: "Site", accessorFn: (row) => row.site },
  {
    id: "capacity",
    header: "Capacity",
    accessorFn: (row) => row.capacity ?? -1,
    meta: { right: true },
    cell: ({ row: { original: r } }) =>
      r.capacity === undefined ? "no limit" : amount(r.capacity, r.load?.unit ?? ""),
  },
  {
    id: "now",
    header: "Load now",
    accessorFn: (row) => row.now,
    meta: { right: true },
    cell: ({ row: { original: r } }) => (r.load ? amount(r.now, r.load.unit) : "–"),
  },
  {
    id: "share",
    header: "Of it",
    accessorFn: (row) => (row.capacity ? row.now / row.capacity : 0),
    meta: { right: true },
    cell: ({ row: { original: r } }) => (r.capacity ? percent(r.now / r.capacity) : "–"),
  },
  {
    id: "peak",
    header: "Most tonight",
    accessorFn: (row) => row.load?.peak ?? 0,
    meta: { right: true },
    cell: ({ row: { original: r } }) => (r.load ? amount(r.load.peak, r.load.unit) : "–"),
  },
  {
    id: "waiting",
    header: "Waiting",
    accessorFn: (row) => row.waiting,
    meta: { right: true },
    cell: ({ row: { original: r } }) =>
      r.waiting ? <strong className="text-barn">{r.waiting}</strong> : "–",
  },
  { id: "notes", header: "Deserves a look", accessorFn: (row) => row.item.notes.join(" ") || "–" },
];

/** The same as the map, in rows. */
export function PathsTable({
  paths,
  loads,
  quarter,
  chosen,
  onOpen,
}: {
  paths: PathsAnswer;
  loads: ReadonlyMap<string, ItemLoad>;
  quarter: number;
  chosen: string | null;
  onOpen: (list: List, id: string) => void;
}) {
  const { plan, draft, date } = useWorkbench();
  const lists: List[] = ["sites", "datastores", "proxies", "links", "repositories", "hosts"];
  const rows = lists.flatMap((list) =>
    (paths[list as keyof PathsAnswer] as Item[]).map((item): Row => {
      const load = mainLoad(item, loads);
      const ends = item.value["between"] as string[] | undefined;
      return {
        list,
        item,
        site: ends
          ? [...new Set(ends)].join(" to ")
          : list === "datastores"
            ? siteOfStore(item, paths.hosts)
            : String(item.value["site"] ?? item.id),
        load,
        now: load?.total[quarter] ?? 0,
        capacity: load?.capacity?.[quarter],
        waiting: squeezes(item, loads, quarter).reduce(
          (sum, each) => sum + (each.waiting[quarter] ?? 0),
          0,
        ),
      };
    }),
  );
  return (
    <div className="px-2">
      <p className="py-1 text-right">
        <TableFiles
          of={`plans/${plan.id}/tables/paths`}
          what="Paths"
          query={{ day: date, draft: draft?.id }}
        />
      </p>
      <Table
        caption="Paths"
        rows={rows}
        columns={columns}
        idOf={(row) => `${NOUNS[row.list]}:${row.item.id}`}
        chosen={chosen}
        onChoose={(row) => onOpen(row.list, row.item.id)}
      />
    </div>
  );
}
