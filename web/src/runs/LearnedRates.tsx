import { takeColumn } from "../workbench/takeColumn";
import { useMutation, useQuery } from "@tanstack/react-query";
import { useState } from "react";
import type { Operation } from "../api/client";
import { change, type List } from "../api/pathQueries";
import { type LearnedRate, learnedRatesQuery } from "../api/runQueries";
import { Button } from "../ui/Button";
import { Table } from "../ui/Table";
import { TableFiles } from "../ui/TableFiles";
import { count } from "../ui/words";
import { Allowed } from "../workbench/Allowed";
import { useWorkbench } from "../workbench/store";

/** Three digits say all that nights can tell of a rate. */
const rounded = (value: number) => Number(value.toPrecision(3));

const rate = (value: number) => rounded(value).toLocaleString("en-GB");

/** Who shares a rate is never quite as predicted: what differs by less says nothing against it. */
const PLAIN = 0.03;

/** Whether the nights speak against what is stated. */
const differs = (row: LearnedRate) =>
  (row.stated < row.low || row.stated > row.high) &&
  Math.abs(row.learned - row.stated) > PLAIN * row.stated;

function operationsOf(rows: readonly LearnedRate[]): Operation[] {
  const streams = rows.filter((row) => row.list === null);
  const made = rows
    .filter((row) => row.list !== null && row.id !== null)
    .map((row) => change(row.list as List, row.id!, { [row.key]: rounded(row.learned) }));
  if (streams.length) {
    const changes = Object.fromEntries(streams.map((row) => [row.key, rounded(row.learned)]));
    made.push({ operation: "SetTransports", changes });
  }
  return made;
}

/** Rates of streams and shared resources as the nights show them, beside what is stated. */
export function LearnedRates({ plan }: { plan: number }) {
  const found = useQuery(learnedRatesQuery(plan));
  const { put } = useWorkbench();
  const [some, setSome] = useState<ReadonlySet<string>>(new Set());
  const take = useMutation({
    mutationFn: (rows: LearnedRate[]) => put(operationsOf(rows)),
    onSuccess: () => setSome(new Set()),
  });
  const rows = found.data?.rates ?? [];
  const otherwise = rows.filter(differs);
  const chosen = rows.filter((row) => some.has(row.what));
  return (
    <section aria-label="Rates as they were learned" className="pt-4">
      <h2 className="text-lg font-semibold">
        Rates, as the nights show them{" "}
        <TableFiles of={`plans/${plan}/tables/learned-rates`} what="Rates as learned" />
      </h2>
      <p className="max-w-[80ch] text-ink-2">
        Machines that were held back by one thing for most of their time tell how fast it is. What
        is taken over goes into a draft, where you see what it does to the week before you adopt it.
      </p>
      {found.error && (
        <p role="alert" className="text-barn">
          {found.error.message}
        </p>
      )}
      {found.data && !rows.length && (
        <p className="py-1">No rate has been shown by five nights of the last five weeks yet.</p>
      )}
      {rows.length > 0 && (
        <>
          <div className="flex flex-wrap items-center gap-3 py-1">
            <span>
              {count(otherwise.length, "rate")} of {rows.length} other than stated
            </span>
            <Allowed>
              <Button
                disabled={!otherwise.length}
                onClick={() => setSome(new Set(otherwise.map((row) => row.what)))}
              >
                Choose those
              </Button>
              <Button
                look="strong"
                disabled={!chosen.length || take.isPending}
                onClick={() => take.mutate(chosen)}
              >
                Take {count(chosen.length, "rate")} into a draft
              </Button>
            </Allowed>
          </div>
          <Table
            caption="Rates as the nights show them, and as they are stated"
            rows={rows}
            idOf={(row) => row.what}
            columns={[
              takeColumn<LearnedRate>(
                some,
                setSome,
                (row) => row.what,
                (row) => `Take the rate of ${row.words} over`,
              ),
              { id: "words", header: "Rate of", accessorFn: (row) => row.words },
              {
                id: "stated",
                header: "Stated",
                accessorFn: (row) => row.stated,
                meta: { right: true },
                cell: ({ row: { original: row } }) => `${rate(row.stated)} ${row.unit}`,
              },
              {
                id: "learned",
                header: "Learned",
                accessorFn: (row) => row.learned / row.stated,
                meta: { right: true },
                cell: ({ row: { original: row } }) => (
                  <>
                    <b className={differs(row) ? "text-barn" : ""}>
                      {rate(row.learned)} {row.unit}
                    </b>{" "}
                    <span className="text-ink-2">
                      {rate(row.low)} to {rate(row.high)}
                    </span>
                  </>
                ),
              },
              {
                id: "spread",
                header: "Night to night",
                accessorFn: (row) => row.spread,
                meta: { right: true },
                cell: ({ row }) => `± ${(row.original.spread * 100).toFixed(0)} %`,
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
        </>
      )}
    </section>
  );
}
