import { useInfiniteQuery } from "@tanstack/react-query";
import { useDeferredValue } from "react";
import { trailFile, trailPage, type TrailWanted } from "../api/settingsQueries";
import { Button } from "../ui/Button";
import { Choice } from "../ui/Choice";
import { Field } from "../ui/Field";
import { Table } from "../ui/Table";
import { useAddress } from "../workbench/address";
import { Section } from "./parts";
import { detailWords, whenWords } from "./words";

/** Who did what, when, from where, and what was before. */
export function Trail() {
  const { search, set } = useAddress();
  const wanted: TrailWanted = {};
  for (const key of ["said", "action", "since", "until"] as const) {
    const value = search.get(key);
    if (value) wanted[key] = value;
  }
  const settled = useDeferredValue(JSON.stringify(wanted));
  const found = useInfiniteQuery({
    queryKey: ["audit trail", settled],
    queryFn: ({ pageParam, signal }) =>
      trailPage(JSON.parse(settled) as TrailWanted, pageParam, signal),
    initialPageParam: null as number | null,
    getNextPageParam: (page) => page.next,
  });
  const rows = found.data?.pages.flatMap((page) => page.entries) ?? [];
  const actions = found.data?.pages[0]?.actions ?? [];
  return (
    <Section
      title="Audit trail"
      about="What people and programs changed, in the transaction of the change itself. Entries cannot be changed, and stay at least 90 days."
    >
      <div className="mb-2 flex flex-wrap items-end gap-3">
        <div className="w-56">
          <Field
            label="Says"
            type="search"
            value={wanted.said ?? ""}
            onChange={(event) => set({ said: event.target.value || null })}
          />
        </div>
        <div className="w-36">
          <Field
            label="Since"
            type="date"
            value={wanted.since ?? ""}
            onChange={(event) => set({ since: event.target.value || null })}
          />
        </div>
        <div className="w-36">
          <Field
            label="Before"
            type="date"
            value={wanted.until ?? ""}
            onChange={(event) => set({ until: event.target.value || null })}
          />
        </div>
        <div className="mb-2">
          <Choice
            lead="What"
            value={wanted.action ?? ""}
            options={[
              { value: "", label: "everything" },
              ...actions.map((action) => ({ value: action, label: action })),
            ]}
            onChange={(action) => set({ action: action || null })}
          />
        </div>
        <p className="mb-2 flex gap-3">
          <a className="underline" href={trailFile(wanted, "csv")}>
            CSV
          </a>
          <a className="underline" href={trailFile(wanted, "xlsx")}>
            XLSX
          </a>
          <a className="underline" href={trailFile(wanted, "jsonl")}>
            JSON lines
          </a>
        </p>
      </div>
      {found.error && (
        <p role="alert" className="text-barn">
          {found.error.message}
        </p>
      )}
      <Table
        caption="Audit trail"
        rows={rows}
        idOf={(row) => String(row.id)}
        columns={[
          {
            id: "at",
            header: "When",
            accessorKey: "at",
            cell: ({ row }) => (
              <span className="whitespace-nowrap">{whenWords(row.original.at)}</span>
            ),
          },
          { id: "actor", header: "Who", accessorKey: "actor" },
          { id: "action", header: "What", accessorKey: "action" },
          { id: "subject", header: "To what", accessorKey: "subject" },
          {
            id: "detail",
            header: "What it was, and is now",
            accessorFn: (row) => detailWords(row.detail as Record<string, unknown>),
            cell: ({ getValue }) => (
              <span className="[overflow-wrap:anywhere]">{getValue<string>()}</span>
            ),
          },
          {
            id: "address",
            header: "From",
            accessorKey: "address",
            cell: ({ row }) => (
              <span className="whitespace-nowrap">{row.original.address || "Gambrel itself"}</span>
            ),
          },
        ]}
      />
      {found.data && !rows.length && <p className="text-ink-2">Nothing like this was done.</p>}
      {found.hasNextPage && (
        <Button
          className="mt-2"
          disabled={found.isFetchingNextPage}
          onClick={() => void found.fetchNextPage()}
        >
          Older entries
        </Button>
      )}
    </Section>
  );
}
