import { useQuery, type UseQueryResult } from "@tanstack/react-query";
import { clsx } from "clsx";
import { useState } from "react";
import {
  type LedgerRun,
  type LedgerMachine,
  ledgerRunQuery,
  type OrderKind,
  type RunBar,
} from "../api/runQueries";
import { clock, dayClock, duration, millis } from "../time/time";
import { Sheet } from "../ui/Sheet";
import { bytes, count } from "../ui/words";
import { OrderDesk } from "../workbench/OrderDesk";

/** A run of the ledger. */
export function LedgerRunSheet(props: Omit<Props, "found">) {
  const { plan, run } = props;
  return <RunSheet {...props} found={useQuery(ledgerRunQuery(plan, run.job, run.occurrence))} />;
}

interface Props {
  plan: number;
  zone: string;
  run: RunBar;
  ordersPossible: boolean;
  /** Its machines and events. */
  found: Pick<UseQueryResult<LedgerRun>, "data" | "error" | "isPending">;
  onClose: () => void;
}

/** A run: its machines with their steps, predicted beside actual, and its events in order. */
export function RunSheet({ plan, zone, run, ordersPossible, found, onClose }: Props) {
  const [chosen, setChosen] = useState<readonly string[]>([]);
  const [open, setOpen] = useState<string | null>(null);
  const [events, setEvents] = useState(false);
  const machines = found.data?.machines ?? [];
  const failed = machines.filter((m) => m.outcome !== null && m.outcome !== "done");
  const kinds: OrderKind[] =
    run.state === "under way"
      ? ["stop", "hold"]
      : [...(failed.length ? (["retry"] as const) : []), "run", "run in full", "hold"];
  return (
    <Sheet label={`Run of ${run.name}`} title={run.name} onClose={onClose}>
      <p className="text-ink-2">
        Due {dayClock(run.occurrence, zone)}
        {run.kind && `, ${run.kind}`}
      </p>
      <p className="py-1">{stateInWords(run, zone)}</p>
      {found.data?.why && <p className="pb-1">{found.data.why}.</p>}
      {ordersPossible && (
        <OrderDesk
          plan={plan}
          job={run.job}
          failed={failed.map((m) => m.machine)}
          chosen={chosen}
          kinds={kinds}
        />
      )}
      {found.error && <p role="alert">{found.error.message}</p>}
      {found.isPending && <p role="status">Reading the run …</p>}
      <ul aria-label="Machines of the run" className="border-t border-rule">
        {[...failed, ...machines.filter((m) => !failed.includes(m))].map((machine) => (
          <Machine
            key={machine.machine}
            machine={machine}
            zone={zone}
            chosen={chosen.includes(machine.machine)}
            onChosen={
              ordersPossible
                ? (now) =>
                    setChosen((before) =>
                      now
                        ? [...before, machine.machine]
                        : before.filter((name) => name !== machine.machine),
                    )
                : null
            }
            open={open === machine.machine}
            onOpen={() => setOpen(open === machine.machine ? null : machine.machine)}
          />
        ))}
      </ul>
      {found.data && found.data.events.length > 0 && (
        <section aria-label="Events" className="pt-2">
          <button
            type="button"
            className="text-ink-2 underline decoration-1 underline-offset-3"
            aria-expanded={events}
            onClick={() => setEvents(!events)}
          >
            {events ? "Hide" : "Show"} {count(found.data.events.length, "event")}
          </button>
          {events && (
            <ol className="pt-1">
              {found.data.events.map((event, i) => (
                <li key={i} className="flex gap-2 text-sm">
                  <time className="shrink-0 text-ink-2">{clock(event.at, zone)}</time>
                  <span className={clsx("min-w-0", event.refused && "text-barn")}>
                    {event.machine && <span className="font-medium">{event.machine} </span>}
                    {event.words}
                    {event.refused && ` (refused: ${event.refused})`}
                  </span>
                </li>
              ))}
            </ol>
          )}
        </section>
      )}
    </Sheet>
  );
}

function stateInWords(run: RunBar, zone: string): string {
  if (run.state === "due")
    return `Not begun. ${count(run.total, "machine")}, predicted to end ${
      run.predicted_ended ? dayClock(run.predicted_ended, zone) : "at no known time"
    }.`;
  const moved = `${bytes(run.moved_bytes)} read, ${bytes(run.predicted_bytes)} predicted`;
  if (run.state === "under way")
    return `${run.done} of ${count(run.total, "machine")} done, ${run.moving} moving. ${moved}.`;
  const late =
    run.predicted_ended && run.ended ? (millis(run.ended) - millis(run.predicted_ended)) / 1000 : 0;
  const differs =
    Math.abs(late) >= 60
      ? `, ${duration(Math.abs(late))} ${late > 0 ? "later" : "earlier"} than predicted`
      : ", as predicted";
  return `${run.done} of ${count(run.total, "machine")} done. Ended ${
    run.ended ? dayClock(run.ended, zone) : ""
  }${run.predicted_ended ? differs : ""}. ${moved}.`;
}

const PARTS: Record<string, string> = {
  waiting: "Waiting",
  preparing: "Preparing",
  moving: "Reading",
  releasing: "Releasing",
  checking: "Checking",
};

function Machine(props: {
  machine: LedgerMachine;
  zone: string;
  chosen: boolean;
  /** Has it chosen for an order; null where none can be given. */
  onChosen: ((chosen: boolean) => void) | null;
  open: boolean;
  onOpen: () => void;
}) {
  const { machine, zone, chosen, onChosen, open, onOpen } = props;
  const bad = machine.outcome !== null && machine.outcome !== "done";
  return (
    <li className="border-b border-rule py-1">
      <span className="flex items-center gap-2">
        {onChosen && (
          <input
            type="checkbox"
            aria-label={`Choose ${machine.machine}`}
            checked={chosen}
            onChange={(event) => onChosen(event.target.checked)}
          />
        )}
        <button
          type="button"
          aria-expanded={open}
          onClick={onOpen}
          className="flex min-w-0 flex-1 items-baseline gap-2 text-left hover:bg-closed"
        >
          <span className="min-w-0 flex-1 truncate font-medium">{machine.machine}</span>
          <span className={clsx("shrink-0", bad ? "font-semibold text-barn" : "text-ink-2")}>
            {machine.outcome ?? machine.step}
          </span>
          <span className="w-16 shrink-0 text-right text-ink-2">{bytes(machine.source_bytes)}</span>
        </button>
      </span>
      {machine.reason && <p className="text-sm text-barn">{machine.reason}</p>}
      {open && (
        <div className="pt-1 text-sm">
          <p className="text-ink-2">
            {machine.kind}
            {machine.start && `, started ${clock(machine.start, zone)}`}
            {machine.ended && `, ended ${clock(machine.ended, zone)}`}
            {machine.mib_per_s !== null && `, ${Math.round(machine.mib_per_s)} MiB/s`}
            {machine.proxies.length > 0 && `, read by ${machine.proxies.join(", ")}`}
          </p>
          {machine.left.length > 0 && <p>Left behind: {machine.left.join(", ")}</p>}
          <table className="mt-1 w-full">
            <thead>
              <tr className="text-ink-2">
                <th scope="col" className="text-left font-medium">
                  Part
                </th>
                <th scope="col" className="text-right font-medium">
                  predicted
                </th>
                <th scope="col" className="text-right font-medium">
                  took
                </th>
              </tr>
            </thead>
            <tbody>
              {machine.parts.map((p) => (
                <tr key={p.part}>
                  <td>{PARTS[p.part] ?? p.part}</td>
                  <td className="text-right">
                    {p.predicted_s === null ? "–" : duration(p.predicted_s)}
                  </td>
                  <td className="text-right">{p.actual_s === null ? "–" : duration(p.actual_s)}</td>
                </tr>
              ))}
              <tr>
                <td>Data read</td>
                <td className="text-right">
                  {machine.predicted_bytes === null ? "–" : bytes(machine.predicted_bytes)}
                </td>
                <td className="text-right">{bytes(machine.source_bytes)}</td>
              </tr>
            </tbody>
          </table>
        </div>
      )}
    </li>
  );
}
