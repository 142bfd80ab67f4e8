import { useQuery } from "@tanstack/react-query";
import { useMemo, useState } from "react";
import { Link } from "react-router";
import type { Job, MachineRun, Run } from "../api/client";
import { runQuery } from "../api/planQueries";
import { useJobLinks } from "../workbench/links";
import { useWorkbench } from "../workbench/store";
import { clock, dayClock, duration } from "../time/time";
import { Sheet } from "../ui/Sheet";
import { Table } from "../ui/Table";
import { bytes, count, gib, resource } from "../ui/words";
import { Account } from "./Account";
import { kindOf, runLines } from "./explain";

/** The facts of a job beside the board: its sentence, its runs that night, the machines of one. */
export function JobSheet({
  job,
  runs,
  run,
  onRun,
  onRoom,
  onClose,
}: {
  job: Job;
  runs: Run[];
  run: Run | null;
  onRun: (run: Run) => void;
  onRoom: () => void;
  onClose: () => void;
}) {
  const { plan, moves } = useWorkbench();
  const links = useJobLinks();
  const zone = plan.time_zone;
  return (
    <Sheet label={`Job ${job.name}`} title={job.name} onClose={onClose}>
      <p className="mb-3 text-ink-2">
        Priority {job.priority} of 5 · {count(job.machines, "machine")}, {gib(job.used_gib)} used
        {job.locked && " · locked"} ·{" "}
        <Link className="underline underline-offset-2" to={links.job(job.id)}>
          Edit its sentence
        </Link>{" "}
        ·{" "}
        <button type="button" className="underline underline-offset-2" onClick={onRoom}>
          Where is room?
        </button>
      </p>
      <dl className="mb-4 grid grid-cols-[auto_1fr] gap-x-2.5 gap-y-1.5">
        {job.clauses
          .filter((clause) => !clause.plain)
          .map((clause) => (
            <div key={clause.lead} className="contents">
              <dt className="text-right font-semibold">{clause.lead}</dt>
              <dd>{clause.text}</dd>
            </div>
          ))}
      </dl>
      <h3 className="mb-1 font-semibold">This night: {count(runs.length, "run")}</h3>
      {runs.length > 1 && (
        <ul className="mb-2 max-h-28 overflow-y-auto" tabIndex={0} aria-label="Runs of this night">
          {runs.map((r) => (
            <li key={r.occurrence}>
              <button
                type="button"
                onClick={() => onRun(r)}
                aria-pressed={r === run}
                className="w-full px-1 text-left hover:bg-closed aria-pressed:bg-closed aria-pressed:font-semibold"
              >
                {dayClock(r.occurrence, zone)} {kindOf(r)}
                {r.ended && `, ends ${clock(r.ended, zone)}`}
                {r.over_s > 0 && <span className="text-barn">, {duration(r.over_s)} late</span>}
                {r.outcome !== "done" && `, ${r.outcome}`}
              </button>
            </li>
          ))}
        </ul>
      )}
      {run && (
        <>
          <p className="mb-1 font-medium">
            {kindOf(run)}, {run.outcome}
          </p>
          {runLines(run, zone).map((line) => (
            <p key={line}>{line}</p>
          ))}
          {moves.length ? (
            <p className="mt-3 text-ink-2">Machine by machine: after the moves are saved.</p>
          ) : (
            <Machines run={run} />
          )}
        </>
      )}
      {!runs.length && <p className="text-ink-2">Nothing of this job is due in this night.</p>}
    </Sheet>
  );
}

function Machines({ run }: { run: Run }) {
  const { plan, draft, date } = useWorkbench();
  const zone = plan.time_zone;
  const machines = useQuery(runQuery(plan, draft, date, run.job, run.occurrence));
  const columns = useMemo(() => {
    const right = { right: true };
    const chief = (m: MachineRun) => m.squeezes[0]?.name ?? "";
    return [
      {
        header: "Machine",
        accessorFn: (m: MachineRun) => m.machine,
        cell: (c: { row: { original: MachineRun } }) => <MachineName machine={c.row.original} />,
      },
      {
        header: "Starts",
        accessorFn: (m: MachineRun) => m.start ?? "",
        cell: (c: { row: { original: MachineRun } }) =>
          c.row.original.start ? clock(c.row.original.start, zone) : "–",
        meta: right,
      },
      {
        header: "Ends",
        accessorFn: (m: MachineRun) => m.ended,
        cell: (c: { row: { original: MachineRun } }) => clock(c.row.original.ended, zone),
        meta: right,
      },
      {
        header: "Read",
        accessorFn: (m: MachineRun) => m.source_bytes,
        cell: (c: { row: { original: MachineRun } }) => (
          <span title={resource(chief(c.row.original))}>{bytes(c.row.original.source_bytes)}</span>
        ),
        meta: right,
      },
    ];
  }, [zone]);
  if (machines.error) return <p className="mt-3 text-ink-2">{machines.error.message}</p>;
  if (!machines.data) return <p className="mt-3 text-ink-2">Reading its machines …</p>;
  return (
    <div className="-mx-2 mt-3 text-xs">
      <Table
        caption={`Machines of the run due ${dayClock(run.occurrence, zone)}`}
        rows={machines.data.machines}
        columns={columns}
        idOf={(m) => m.machine}
      />
    </div>
  );
}

function MachineName({ machine }: { machine: MachineRun }) {
  const reader = machine.readings[0];
  const [said, setSaid] = useState(false);
  return (
    <>
      <button
        type="button"
        aria-expanded={said}
        className="font-mono underline decoration-rule-strong underline-offset-2"
        onClick={() => setSaid(!said)}
      >
        {machine.machine}
      </button>
      <span className="block text-ink-2">
        {machine.outcome === "done" ? (
          <>
            {reader?.proxy
              ? `${reader.proxy}, ${reader.transport?.replace("_", "-")}`
              : reader
                ? "agent"
                : "nothing moved"}
            {machine.waiting_s > 60 && `, waited ${duration(machine.waiting_s)}`}
          </>
        ) : (
          <span className="font-semibold text-barn">{machine.outcome}</span>
        )}
      </span>
      <Account parts={machine.account} said={said} />
    </>
  );
}
