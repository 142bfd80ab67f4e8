import { useMutation } from "@tanstack/react-query";
import type { ColumnDef } from "@tanstack/react-table";
import { type ReactNode, useMemo, useState } from "react";
import type { Operation } from "../api/client";
import { Button } from "../ui/Button";
import { Flag } from "../ui/controls";
import { Table } from "../ui/Table";
import { TableFiles } from "../ui/TableFiles";
import { count } from "../ui/words";
import { Allowed } from "../workbench/Allowed";
import { useWorkbench } from "../workbench/store";
import { takeColumn } from "../workbench/takeColumn";

const NONE: never[] = [];

/** What nights have shown of something that a plan states, to be taken into a draft. */
export function LearnedIntoDraft<R extends { nights: number; runs: number }>({
  plan,
  what,
  label,
  title,
  table,
  rows,
  error,
  idOf,
  nameOf,
  differs,
  takes,
  operationsOf,
  none,
  columns,
  children,
}: {
  plan: number;
  /** What a row is, in one word: "rate". */
  what: string;
  label: string;
  title: string;
  table: string;
  /** Undefined while they are not known. */
  rows: R[] | undefined;
  error: Error | null;
  idOf: (row: R) => string;
  nameOf: (row: R) => string;
  /** Whether the nights speak against what is stated. */
  differs: (row: R) => boolean;
  /** Whether there is something in the plan that states it. */
  takes: (row: R) => boolean;
  operationsOf: (rows: readonly R[]) => Operation[];
  none: string;
  columns: readonly ColumnDef<R>[];
  children: ReactNode;
}) {
  const { put } = useWorkbench();
  const [some, setSome] = useState<ReadonlySet<string>>(new Set());
  const take = useMutation({
    mutationFn: (chosen: R[]) => put(operationsOf(chosen)),
    onSuccess: () => setSome(new Set()),
  });
  const [only, setOnly] = useState(true);
  const known = rows ?? NONE;
  const otherwise = known.filter(differs);
  const shown = useMemo(() => (only ? known.filter(differs) : known), [known, only, differs]);
  const worth = otherwise.filter(takes);
  const chosen = known.filter((row) => takes(row) && some.has(idOf(row)));
  const ticks = takeColumn<R>(
    some,
    setSome,
    idOf,
    (row) => `Take the ${what} of ${nameOf(row)} over`,
    takes,
  );
  return (
    <section aria-label={label} className="pt-4">
      <h2 className="text-lg font-semibold">
        {title} <TableFiles of={`plans/${plan}/tables/${table}`} what={label} />
      </h2>
      <p className="max-w-[80ch] text-ink-2">{children}</p>
      {error && (
        <p role="alert" className="text-barn">
          {error.message}
        </p>
      )}
      {rows && !rows.length && <p className="py-1">{none}</p>}
      {known.length > 0 && (
        <>
          <div className="flex flex-wrap items-center gap-3 py-1">
            <Flag
              label={`Only where what is stated does not hold (${count(otherwise.length, what)} of ${known.length})`}
              value={only}
              onChange={setOnly}
            />
            <Allowed>
              <Button
                disabled={!worth.length}
                onClick={() => setSome(new Set(worth.map((row) => idOf(row))))}
              >
                Choose those
              </Button>
              <Button
                look="strong"
                disabled={!chosen.length || take.isPending}
                onClick={() => take.mutate(chosen)}
              >
                Take {count(chosen.length, what)} into a draft
              </Button>
            </Allowed>
          </div>
          {shown.length === 0 && <p className="py-1">What is stated holds for each of them.</p>}
          {shown.length > 0 && (
            <Table
              caption={label}
              rows={shown}
              idOf={idOf}
              columns={[
                ticks,
                ...columns,
                {
                  id: "rests",
                  header: "Rests on",
                  accessorFn: (row) => row.nights,
                  meta: { right: true },
                  cell: ({ row: { original: row } }) =>
                    `${count(row.nights, "night")}, ${count(row.runs, "machine-run")}`,
                },
              ]}
            />
          )}
        </>
      )}
    </section>
  );
}
