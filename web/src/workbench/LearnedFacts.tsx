import type { ColumnDef } from "@tanstack/react-table";
import { type ReactNode, useState } from "react";
import { Button } from "../ui/Button";
import { Flag } from "../ui/controls";
import { Table } from "../ui/Table";
import { TableFiles } from "../ui/TableFiles";
import { count, gib } from "../ui/words";
import { Allowed } from "./Allowed";
import { type LearnedFact, percentage, useTakeLearned } from "./learned";
import { takeColumn } from "./takeColumn";

interface Row {
  machine: string;
  folder: string;
  used_gib: number;
  stated: number;
}

/** A fact of machines as the ledger shows it, beside what is stated, to be taken over. */
export function LearnedFacts<R extends Row>(props: {
  plan: number;
  fact: LearnedFact;
  /** The fact in words: "growth". */
  what: string;
  label: string;
  title: string;
  /** The table of the API that is the same as a file. */
  table: string;
  rows: R[];
  known: boolean;
  error: Error | null;
  valueOf: (row: R) => number;
  /** How a value is said; by default as a percentage. */
  said?: (value: number) => string;
  /** Whether what was learned speaks against what is stated. */
  differs: (row: R) => boolean;
  only: string;
  none: string;
  columns: ColumnDef<R>[];
  /** A standing rule about it. */
  rule?: ReactNode;
  children: ReactNode;
}) {
  const { plan, fact, what, rows: all, valueOf, differs, said = percentage } = props;
  const [some, setSome] = useState<ReadonlySet<string>>(new Set());
  const [plainOnly, setPlainOnly] = useState(true);
  const take = useTakeLearned(plan, fact, valueOf, () => setSome(new Set()));
  const otherwise = all.filter(differs);
  const rows = plainOnly ? otherwise : all;
  const chosen = rows.filter((row) => some.has(row.machine));
  return (
    <section aria-label={props.label} className="pt-4">
      <h2 className="text-lg font-semibold">
        {props.title} <TableFiles of={`plans/${plan}/tables/${props.table}`} what={props.title} />
      </h2>
      <p className="max-w-[80ch] text-ink-2">{props.children}</p>
      {props.error && (
        <p role="alert" className="text-barn">
          {props.error.message}
        </p>
      )}
      {props.known && !all.length && <p className="py-1">{props.none}</p>}
      {all.length > 0 && (
        <>
          <div className="flex flex-wrap items-center gap-3 py-1">
            <Flag
              label={`${props.only} (${count(otherwise.length, "machine")} of ${all.length})`}
              value={plainOnly}
              onChange={setPlainOnly}
            />
            <Allowed>
              <Button
                disabled={!rows.length}
                onClick={() =>
                  setSome(
                    chosen.length === rows.length
                      ? new Set()
                      : new Set(rows.map((row) => row.machine)),
                  )
                }
              >
                {chosen.length === rows.length && rows.length ? "Choose none" : "Choose all"}
              </Button>
              <Button
                look="strong"
                disabled={!chosen.length || take.isPending}
                onClick={() => take.mutate(chosen)}
              >
                Take over the {what} of {count(chosen.length, "machine")}
              </Button>
              {props.rule}
            </Allowed>
            {take.error && (
              <span role="alert" className="text-barn">
                {take.error.message}
              </span>
            )}
          </div>
          {rows.length === 0 ? (
            <p className="py-1">What is stated holds for each of them.</p>
          ) : (
            <Table
              caption={`${props.title}, and as it is stated`}
              rows={rows}
              idOf={(row) => row.machine}
              columns={[
                takeColumn<R>(
                  some,
                  setSome,
                  (row) => row.machine,
                  (row) => `Take over the ${what} of ${row.machine}`,
                ),
                { id: "machine", header: "Machine", accessorFn: (row) => row.machine },
                { id: "folder", header: "Folder", accessorFn: (row) => row.folder },
                {
                  id: "used",
                  header: "Used",
                  accessorFn: (row) => row.used_gib,
                  meta: { right: true },
                  cell: ({ row }) => gib(row.original.used_gib),
                },
                {
                  id: "stated",
                  header: "Stated",
                  accessorFn: (row) => row.stated,
                  meta: { right: true },
                  cell: ({ row }) => said(row.original.stated),
                },
                ...props.columns,
              ]}
            />
          )}
        </>
      )}
    </section>
  );
}
