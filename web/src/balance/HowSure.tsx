import { useQuery } from "@tanstack/react-query";
import { useEffect, useRef, useState } from "react";
import { Flag, NumberField } from "../ui/controls";
import { useWorkbench } from "../workbench/store";
import { clock, dateWords, mondayOf } from "../time/time";
import { Button } from "../ui/Button";
import { count, weeksOf } from "../ui/words";
import {
  computationsQuery,
  isStale,
  newestFor,
  type Sure,
  useComputing,
} from "../api/balanceQueries";
import { Drawing } from "./Drawing";
import { useSpread } from "./spread";

/** How many weeks the first answer takes. */
const FIRST_WEEKS = 24;

/** The week simulated some hundred times, with change and throughput that vary as they do. */
export function HowSure() {
  const { plan, draft, date } = useWorkbench();
  const [samples, setSamples] = useState(300);
  const spread = useSpread(plan.id);
  const [typedChange, setChange] = useState<number | null>(null);
  const [failures, setFailures] = useState(false);
  const [typedRate, setRate] = useState<number | null>(null);
  const change = typedChange ?? spread.change;
  const rate = typedRate ?? spread.rate;
  const found = useQuery(computationsQuery(plan.id, "confidence"));
  const computing = useComputing(plan.id, "confidence");
  const shown = newestFor(found.data, draft, date);
  const running = shown?.state === "running";
  const nights = shown?.result?.nights ?? [];
  const whole = nights.some((night) => typeof night.whole === "number");
  const ask = (weeks: number) =>
    computing.confidence.mutate({
      draft: draft?.id ?? null,
      day: mondayOf(date),
      happens: [],
      samples: weeks,
      // What nobody typed is as the ledger shows it, of each machine and rate.
      change: typedChange,
      rate: typedRate,
      stream: typedRate,
      failures,
      seed: 1,
    });
  // Opening this view asks for an answer, so it starts with a few weeks.
  const asked = useRef<string | null>(null);
  const question = `${draft?.id} ${mondayOf(date)}`;
  useEffect(() => {
    if (!found.isSuccess || spread.isPending || shown || asked.current === question) return;
    asked.current = question;
    ask(FIRST_WEEKS);
  });
  const problem = computing.confidence.error ?? computing.stop.error;
  return (
    <div
      className="min-h-0 flex-1 overflow-auto px-4 pb-6"
      tabIndex={0}
      role="region"
      aria-label="How sure"
    >
      <p className="max-w-[90ch] text-ink-2">
        No two weeks change alike, and no link is as fast as it says every night. The week is
        simulated many times with the change of each machine, every shared rate and the speed of a
        stream drawn around their values.
      </p>
      <form
        aria-label="How to draw"
        className="mt-2 flex flex-wrap items-end gap-3"
        onSubmit={(event) => {
          event.preventDefault();
          ask(samples);
        }}
      >
        <div className="w-28">
          <NumberField
            label="Weeks to simulate"
            value={samples}
            onChange={(v) => v !== null && setSamples(Math.round(v))}
          />
        </div>
        <div className="w-40">
          <NumberField
            label="Change varies by"
            unit="%"
            value={Math.round(change * 100)}
            onChange={(v) => v !== null && setChange(v / 100)}
          />
        </div>
        <div className="w-40">
          <NumberField
            label="Rates vary by"
            unit="%"
            value={Math.round(rate * 100)}
            onChange={(v) => v !== null && setRate(v / 100)}
          />
        </div>
        <Flag
          label="Machines fail as often as the ledger shows"
          value={failures}
          onChange={setFailures}
        />
        <span className="mb-2">
          <Button type="submit" look="strong" disabled={running}>
            See how sure the week is
          </Button>
        </span>
      </form>
      <p className="text-xs text-ink-2">
        {spread.source}: two of three weeks lie within them.
        {spread.ofEach &&
          " Each machine and rate varies by its own; shown is the middle, and what you type counts for all."}
      </p>
      {problem && (
        <p role="alert" className="text-barn">
          {problem.message}
        </p>
      )}
      {shown && <Drawing of={shown} total={samples} computing={computing} />}
      {shown && isStale(shown, plan) && nights.length > 0 && (
        <p role="status" className="my-2">
          The plan has been changed since; these weeks were simulated before that.
        </p>
      )}
      {nights.length > 0 && (
        <>
          <table className="mt-3 w-full max-w-[900px] text-sm">
            <caption className="sr-only">How sure each night is</caption>
            <thead>
              <tr className="border-b border-rule-strong text-left text-ink-2">
                <th scope="col" className="py-1 font-medium">
                  Night
                </th>
                <th scope="col" className="font-medium">
                  Ends inside its windows in
                </th>
                {whole && (
                  <th scope="col" className="font-medium">
                    With every machine done
                  </th>
                )}
                <th scope="col" className="font-medium">
                  Last run usually ends
                </th>
                <th scope="col" className="font-medium">
                  95 of 100 weeks end by
                </th>
                <th scope="col" className="font-medium">
                  <span className="sr-only">Chance</span>
                </th>
              </tr>
            </thead>
            <tbody>
              {nights.map((night) => (
                <Line key={night.date} night={night} zone={plan.time_zone} />
              ))}
            </tbody>
          </table>
          <p className="mt-1 text-xs text-ink-2">
            {count(shown?.result?.samples ?? 0, "week")} simulated. The week strip shows them as a
            soft edge behind the load.
          </p>
        </>
      )}
    </div>
  );
}

function Line({ night, zone }: { night: Sure; zone: string }) {
  return (
    <tr className="border-b border-rule">
      <th scope="row" className="py-1.5 text-left font-medium">
        {dateWords(night.date).long} {dateWords(night.date).day}
      </th>
      <td className={night.holds < 0.95 ? "font-semibold text-barn" : ""}>
        {weeksOf(night.holds)}
      </td>
      {typeof night.whole === "number" && (
        <td>
          {weeksOf(night.whole)}{" "}
          <span className="text-ink-2">({(night.failed ?? 0).toFixed(1)} fail)</span>
        </td>
      )}
      <td>{night.median_end ? clock(night.median_end, zone) : "–"}</td>
      <td>{night.late_end ? clock(night.late_end, zone) : "–"}</td>
      <td className="w-56">
        <span aria-hidden className="block h-2.5 border border-rule-strong">
          <span
            className={`block h-full ${night.holds < 0.95 ? "bg-barn" : "bg-slate"}`}
            style={{ width: `${night.holds * 100}%` }}
          />
        </span>
      </td>
    </tr>
  );
}
