import { useMutation } from "@tanstack/react-query";
import type { ColumnDef } from "@tanstack/react-table";
import { type ReactNode, useMemo, useState } from "react";
import type { Operation } from "../api/client";
import { change, type List } from "../api/pathQueries";
import type { Taken } from "../api/runQueries";
import { Button } from "../ui/Button";
import { Flag } from "../ui/controls";
import { Table } from "../ui/Table";
import { TableFiles } from "../ui/TableFiles";
import { count } from "../ui/words";
import { Allowed } from "../workbench/Allowed";
import { useWorkbench } from "../workbench/store";
import { takeColumn } from "../workbench/takeColumn";

const NONE: never[] = [];

/** A value of the plan that nights speak of, and where it comes from. */
export interface Entry {
  /** The list of the plan; null for the ceilings of streams. */
  list: List | "jobs" | null;
  id: string | null;
  key: string;
  /** As it would be taken over. */
  value: number;
  now: number;
  /** What was stated, where the value was taken from the ledger. */
  before: number | null;
  taken: readonly Taken[];
}

const wasTaken = (entry: Entry | null) => entry !== null && entry.before !== null;

/** One step for each entry of the plan, whose values stay told apart by where they come from. */
function operationsOf(entries: readonly Entry[], back: boolean): Operation[] {
  const byEntry = new Map<string, Entry[]>();
  for (const each of entries) {
    const name = `${each.list}/${each.id}`;
    byEntry.set(name, [...(byEntry.get(name) ?? []), each]);
  }
  return [...byEntry.values()].map((its) => {
    const first = its[0]!;
    const others = first.taken.filter((mark) => its.every((each) => each.key !== mark.key));
    const marks = its.map(({ key, value, now, before }) => ({ key, value, stated: before ?? now }));
    const changes = {
      ...Object.fromEntries(its.map((each) => [each.key, back ? each.before : each.value])),
      learned: back ? others : [...others, ...marks],
    };
    return first.list === null
      ? { operation: "SetTransports", changes }
      : change(first.list, first.id!, changes);
  });
}

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
  entryOf,
  said,
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
  /** What states it in the plan; null where nothing does. */
  entryOf: (row: R) => Entry | null;
  /** A value of the plan in words. */
  said: (row: R, value: number) => string;
  none: string;
  columns: readonly ColumnDef<R>[];
  children: ReactNode;
}) {
  const { put } = useWorkbench();
  const [some, setSome] = useState<ReadonlySet<string>>(new Set());
  const take = useMutation({
    mutationFn: (chosen: R[]) =>
      put(
        operationsOf(
          chosen.map(entryOf).filter((entry) => entry !== null),
          false,
        ),
      ),
    onSuccess: () => setSome(new Set()),
  });
  const goBack = useMutation({
    mutationFn: (row: R) => put(operationsOf([entryOf(row)!], true)),
  });
  const takes = (row: R) => entryOf(row) !== null;
  const [only, setOnly] = useState(true);
  const known = rows ?? NONE;
  const otherwise = known.filter(differs);
  const shown = useMemo(
    () => (only ? known.filter((row) => differs(row) || wasTaken(entryOf(row))) : known),
    [known, only, differs, entryOf],
  );
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
                  id: "source",
                  header: "Comes from",
                  accessorFn: (row) => (wasTaken(entryOf(row)) ? 1 : 0),
                  cell: ({ row: { original: row } }) => {
                    const entry = entryOf(row);
                    if (!entry) return null;
                    if (entry.before === null) return "somebody stated it";
                    return (
                      <>
                        the ledger; {said(row, entry.before)} stated{" "}
                        <Allowed>
                          <Button
                            small
                            aria-label={`Go back to what was stated of ${nameOf(row)}`}
                            disabled={goBack.isPending}
                            onClick={() => goBack.mutate(row)}
                          >
                            Go back
                          </Button>
                        </Allowed>
                      </>
                    );
                  },
                },
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
