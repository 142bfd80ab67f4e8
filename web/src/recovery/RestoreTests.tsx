import { Allowed } from "../workbench/Allowed";
import { TableFiles } from "../ui/TableFiles";
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import type { ColumnDef } from "@tanstack/react-table";
import { useState } from "react";
import { Link } from "react-router";
import {
  afterChecksKey,
  cleanedUp,
  orderTests,
  type PlannedTest,
  type PointCheck,
  type RestoreTests as Found,
  testsQuery,
} from "../api/recoveryQueries";
import { dateClock, dayClock, duration } from "../time/time";
import { Button } from "../ui/Button";
import { Pending } from "../ui/Pending";
import { Sheet } from "../ui/Sheet";
import { Table } from "../ui/Table";
import { count } from "../ui/words";
import { planOf, useAddress } from "../workbench/address";
import { useEscape } from "../workbench/keys";
import { useWorkbench } from "../workbench/store";
import { CheckForm } from "./CheckForm";
import { RotaForm } from "./RotaForm";
import { TestDays } from "./TestDays";

const WHY: Record<Found["left_out"][number]["why"], string> = {
  "no point": "no point of it can be used",
  "no host": "there is no host on which it could start",
  "no route": "no route leads from its points to the host",
  "no free hour": "no free hour is long enough",
  later: "its turn comes later",
};
const MOST_NAMED = 12;

/** Restore tests: the rota laid out in free hours, what is overdue and mounted, the record. */
export function RestoreTests() {
  const { plan } = useWorkbench();
  const { search, set } = useAddress();
  const client = useQueryClient();
  const found = useQuery(testsQuery(plan.id));
  const [changing, setChanging] = useState(false);
  useEscape(() => set({ test: null }));
  const order = useMutation({
    mutationFn: (machines: string[]) => orderTests(plan.id, machines),
    onSuccess: (made) => client.setQueryData(testsQuery(plan.id).queryKey, made),
  });
  const clean = useMutation({
    mutationFn: (machine: string) => cleanedUp(plan.id, machine),
    onSuccess: () => client.invalidateQueries({ queryKey: afterChecksKey(plan.id) }),
  });
  if (found.error || !found.data)
    return <Pending error={found.error} text="Looking for free hours …" />;
  const tests = found.data;
  const zone = tests.time_zone;
  const all = tests.days.flatMap((day) => day.tests);
  const chosen = all.find((test) => test.machine === search.get("test")) ?? null;
  const ordered = new Set(tests.ordered.map((each) => each.machine));
  const choose = (machine: string) => set({ test: machine === chosen?.machine ? null : machine });
  return (
    <div className="flex min-h-0 flex-1 narrow:block">
      <section
        aria-label="Restore tests"
        tabIndex={0}
        className="min-w-0 flex-1 overflow-y-auto px-4 pt-2 pb-4"
      >
        <div className="flex flex-wrap items-baseline gap-x-3">
          <p className="text-base" role="status">
            {sentence(tests)}
          </p>
          {!changing && (
            <Allowed>
              <Button small onClick={() => setChanging(true)}>
                {tests.rota ? "Change the rota" : "Set a rota"}
              </Button>
            </Allowed>
          )}
        </div>
        {changing && <RotaForm plan={plan.id} tests={tests} onDone={() => setChanging(false)} />}
        {order.error && (
          <p role="alert" className="text-barn">
            {order.error.message}
          </p>
        )}
        {tests.rota && (
          <>
            <Overdue tests={tests} />
            {tests.days.length > 0 && (
              <h2 className="pt-3 font-semibold">
                The coming days
                <span className="font-normal text-ink-2">
                  {" "}
                  · light: hours in which nothing else runs
                </span>
              </h2>
            )}
            <TestDays
              days={tests.days}
              zone={zone}
              ordered={ordered}
              chosen={chosen?.machine ?? null}
              canOrder={tests.has_runner && !order.isPending}
              onChoose={choose}
              onOrder={(machines) => order.mutate(machines)}
            />
          </>
        )}
        {tests.mounted.length > 0 && (
          <>
            <h2 className="pt-3 font-semibold">Still mounted</h2>
            <ul aria-label="Still mounted">
              {tests.mounted.map((each) => (
                <li key={each.machine} className="flex items-center gap-2 py-0.5">
                  <span>
                    {each.machine}, since {dateClock(each.since, zone)}: {duration(each.age_s)}
                  </span>
                  <Allowed>
                    <Button
                      small
                      aria-label={`The mount of ${each.machine} is gone`}
                      disabled={clean.isPending}
                      onClick={() => clean.mutate(each.machine)}
                    >
                      It is gone
                    </Button>
                  </Allowed>
                </li>
              ))}
            </ul>
          </>
        )}
        {tests.record.length > 0 && (
          <>
            <h2 className="pt-3 pb-1 font-semibold">
              What was tested{" "}
              <TableFiles of={`plans/${plan.id}/tables/restore-tests`} what="Restore tests" />
            </h2>
            <Table
              caption="Restore tests, the newest first"
              rows={tests.record}
              columns={columns(zone)}
              idOf={(row) => `${row.machine} ${row.checked_at}`}
            />
          </>
        )}
      </section>
      {chosen && (
        <TestSheet
          key={chosen.machine}
          test={chosen}
          zone={zone}
          ordered={ordered.has(chosen.machine)}
          onOrder={tests.has_runner ? () => order.mutate([chosen.machine]) : null}
          onClose={() => set({ test: null })}
        />
      )}
    </div>
  );
}

function sentence(tests: Found): string {
  if (!tests.rota)
    return "A backup that was never restored is a hope. A rota starts every machine from its newest point once in so many days, in hours in which nothing else runs.";
  const all = tests.days.flatMap((day) => day.tests);
  const first = all[0];
  const said = [];
  if (tests.overdue.length) said.push(`${count(tests.overdue.length, "machine")} overdue.`);
  said.push(
    first
      ? `${count(all.length, "test")} in the coming days, the first ${dayClock(first.starts, tests.time_zone)}: ${first.machine}.`
      : "No test fits into the coming days.",
  );
  const failed = tests.record.filter((each) => !each.good).length;
  if (failed) said.push(`${failed} of the last ${count(tests.record.length, "test")} failed.`);
  return said.join(" ");
}

/** What is past its turn, and why the coming days do not reach it. */
function Overdue({ tests }: { tests: Found }) {
  const { search } = useAddress();
  if (!tests.overdue.length) return null;
  const why = new Map(tests.left_out.map((each) => [each.machine, each.why]));
  const planned = new Map(
    tests.days.flatMap((day) => day.tests).map((test) => [test.machine, test.starts]),
  );
  return (
    <>
      <h2 className="pt-3 font-semibold text-barn">Overdue</h2>
      <ul aria-label="Overdue" className="columns-3 gap-x-6 narrow:columns-1">
        {tests.overdue.slice(0, MOST_NAMED).map((machine) => {
          const starts = planned.get(machine);
          return (
            <li key={machine}>
              <Link
                to={{ search: `${planOf(search)}&part=points&machine=${machine}` }}
                className="underline decoration-1 underline-offset-3"
              >
                {machine}
              </Link>
              <span className="text-ink-2">
                {starts
                  ? `: ${dayClock(starts, tests.time_zone)}`
                  : `: ${WHY[why.get(machine) ?? "later"]}`}
              </span>
            </li>
          );
        })}
      </ul>
      {tests.overdue.length > MOST_NAMED && (
        <p className="text-ink-2">and {tests.overdue.length - MOST_NAMED} more.</p>
      )}
    </>
  );
}

const columns = (zone: string): ColumnDef<PointCheck>[] => [
  {
    id: "when",
    header: "When",
    accessorFn: (c) => c.checked_at,
    cell: (c) => (
      <span className="whitespace-nowrap">{dateClock(c.row.original.checked_at, zone)}</span>
    ),
  },
  { id: "machine", header: "Machine", accessorFn: (c) => c.machine },
  {
    id: "result",
    header: "Result",
    accessorFn: (c) => (c.good ? "passed" : "failed"),
    cell: (c) =>
      c.row.original.good ? "passed" : <span className="font-semibold text-barn">failed</span>,
  },
  {
    id: "point",
    header: "Point",
    accessorFn: (c) => c.at,
    cell: (c) => `${dateClock(c.row.original.at, zone)}, ${c.row.original.repository}`,
  },
  {
    id: "took",
    header: "Took",
    meta: { right: true },
    accessorFn: (c) => c.took_s ?? -1,
    cell: (c) => (c.row.original.took_s === null ? "" : duration(c.row.original.took_s)),
  },
  {
    id: "predicted",
    header: "Predicted",
    meta: { right: true },
    accessorFn: (c) => c.predicted_s ?? -1,
    cell: (c) => (c.row.original.predicted_s === null ? "" : duration(c.row.original.predicted_s)),
  },
  { id: "note", header: "Note", accessorFn: (c) => c.note },
  { id: "by", header: "By", accessorFn: (c) => c.actor },
];

function TestSheet({
  test,
  zone,
  ordered,
  onOrder,
  onClose,
}: {
  test: PlannedTest;
  zone: string;
  ordered: boolean;
  onOrder: (() => void) | null;
  onClose: () => void;
}) {
  const { plan } = useWorkbench();
  const { search } = useAddress();
  const lasts = (Date.parse(test.ends) - Date.parse(test.starts)) / 1000;
  return (
    <Sheet label={`Test of ${test.machine}`} title={`Test of ${test.machine}`} onClose={onClose}>
      <p>
        {dayClock(test.starts, zone)}, for {duration(lasts)} on {test.host}:{" "}
        {duration(test.set_up_s)} until it starts, then its boot, then away.
      </p>
      <p className="text-ink-2">
        From the point of {dateClock(test.at, zone)} in {test.repository}. Due by{" "}
        {dateClock(test.due, zone)}.
      </p>
      <p className="pt-1">
        <Link
          to={{ search: `${planOf(search)}&part=points&machine=${test.machine}` }}
          className="underline decoration-1 underline-offset-3"
        >
          Points of {test.machine}
        </Link>
      </p>
      <h3 className="pt-3 font-semibold">By the runner</h3>
      {ordered ? (
        <p>It is ordered for {dayClock(test.starts, zone)}.</p>
      ) : onOrder ? (
        <Allowed>
          <Button small onClick={onOrder}>
            Order it for {dayClock(test.starts, zone)}
          </Button>
        </Allowed>
      ) : (
        <p className="text-ink-2">No runner carries this plan out.</p>
      )}
      <h3 className="pt-3 font-semibold">By hand</h3>
      <CheckForm
        plan={plan.id}
        point={test}
        source="test"
        good={null}
        act={{ good: "It came up", bad: "It did not" }}
        question="What was seen"
        onDone={onClose}
      />
    </Sheet>
  );
}
