import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import {
  computationsQuery,
  type Happening,
  isStale,
  newestFor,
  type Stood,
  useComputing,
} from "../api/balanceQueries";
import { dateWords, mondayOf } from "../time/time";
import { Button } from "../ui/Button";
import { Flag, NumberField } from "../ui/controls";
import { useRoving } from "../ui/roving";
import { count, percent, weeksOf } from "../ui/words";
import { useWorkbench } from "../workbench/store";
import { Drawing } from "./Drawing";
import { useSpread } from "./spread";

const LOSSES = [
  { value: "proxies", label: "each proxy" },
  { value: "hosts", label: "each host" },
  { value: "links", label: "the slowest link at half" },
] as const;
type Loss = (typeof LOSSES)[number]["value"];

/** Below this part of the weeks a loss is not stood. */
const STOOD = 0.95;

/**
 * Simulates each loss alone in many weeks that vary, and shows how often the plan stands it and
 * which nights it breaks.
 */
export function Sweep({ onBalance }: { onBalance: (happens: Happening[]) => void }) {
  const { plan, draft, date } = useWorkbench();
  const [samples, setSamples] = useState(64);
  const [losses, setLosses] = useState<readonly Loss[]>(LOSSES.map((each) => each.value));
  const spread = useSpread(plan.id);
  const found = useQuery(computationsQuery(plan.id, "sweep"));
  const computing = useComputing(plan.id, "sweep");
  const roving = useRoving<HTMLTableElement>();
  const shown = newestFor(found.data, draft, date);
  const rows = shown?.result?.losses ?? [];
  const problem = computing.sweep.error ?? computing.stop.error;
  return (
    <section aria-label="Every single loss" className="mt-6 border-t border-rule pt-3">
      <h2 className="text-base font-semibold">Every single loss</h2>
      <p className="max-w-[90ch] text-ink-2">
        Gambrel takes one thing away at a time and simulates many weeks, which vary as under “How
        sure”. A plan that survives a loss on paper may still fail every third week.
      </p>
      <form
        aria-label="What to lose"
        className="mt-2 flex flex-wrap items-end gap-3"
        onSubmit={(event) => {
          event.preventDefault();
          computing.sweep.mutate({
            draft: draft?.id ?? null,
            day: mondayOf(date),
            happens: [],
            losses: [...losses],
            change: null,
            rate: null,
            stream: null,
            samples,
            seed: 1,
          });
        }}
      >
        <div className="w-28">
          <NumberField
            label="Weeks of each"
            value={samples}
            onChange={(v) => v !== null && setSamples(Math.round(v))}
          />
        </div>
        {LOSSES.map(({ value, label }) => (
          <Flag
            key={value}
            label={label}
            value={losses.includes(value)}
            onChange={(on) =>
              setLosses(on ? [...losses, value] : losses.filter((each) => each !== value))
            }
          />
        ))}
        <span className="mb-2">
          <Button
            type="submit"
            look="strong"
            disabled={losses.length === 0 || spread.isPending || shown?.state === "running"}
          >
            Try every loss
          </Button>
        </span>
      </form>
      <p className="text-xs text-ink-2">{spread.source}.</p>
      {problem && (
        <p role="alert" className="text-barn">
          {problem.message}
        </p>
      )}
      {shown && <Drawing of={shown} total={samples} computing={computing} />}
      {shown && rows.length > 0 && isStale(shown, plan) && (
        <p role="status" className="my-2">
          The plan has been changed since; this is how it stood before that.
        </p>
      )}
      {rows.length > 0 && <p className="mt-3">{verdictOf(rows)}</p>}
      {rows.length > 0 && (
        <table ref={roving} role="table" className="reflows mt-1 w-full text-sm">
          <caption className="sr-only">How often each single loss is stood</caption>
          <thead>
            <tr className="border-b border-rule-strong text-left text-ink-2">
              <th scope="col" className="w-64 py-1 font-medium">
                If
              </th>
              <th scope="col" className="font-medium">
                The week fits in
              </th>
              {rows[0]!.nights.map((night) => (
                <th key={night.date} scope="col" className="font-medium">
                  {dateWords(night.date).short} {dateWords(night.date).day}
                </th>
              ))}
              <th scope="col">
                <span className="sr-only">What to do</span>
              </th>
            </tr>
          </thead>
          <tbody>
            {rows.map((row) => (
              <Row key={row.words} row={row} without={rows[0]!} onBalance={onBalance} />
            ))}
          </tbody>
        </table>
      )}
    </section>
  );
}

/** The nights that are stood without the loss and not with it. */
export const brokenBy = (row: Stood, without: Stood) =>
  row.nights.filter((night, i) => night.holds < STOOD && without.nights[i]!.holds >= STOOD);

/** One sentence on all rows; the first is that of no loss. */
export function verdictOf([without, ...losses]: readonly Stood[]): string {
  const [worst] = losses;
  if (!without || !worst) return "There is nothing of the chosen kinds to lose.";
  const all = count(losses.length, "loss");
  const breaking = losses.filter((row) => brokenBy(row, without).length > 0);
  if (without.holds < STOOD) {
    const already = `Without any loss the week fits in ${weeksOf(without.holds)}.`;
    const [first] = breaking;
    if (!first) return `${already} None of ${all} would break another night.`;
    const named = breaking.length > 1 ? `; among them: ${first.words}` : `: ${first.words}`;
    return `${already} Of ${all}, ${breaking.length} would break another night${named}.`;
  }
  const stood = losses.filter((row) => row.holds >= STOOD).length;
  if (stood === losses.length) return `The plan stands ${all} in at least 95 of 100 weeks.`;
  return `The plan stands ${stood || "none"} of ${all} in at least 95 of 100 weeks; the worst: ${worst.words}.`;
}

function Row({
  row,
  without,
  onBalance,
}: {
  row: Stood;
  without: Stood;
  onBalance: (happens: Happening[]) => void;
}) {
  const broken = new Set(brokenBy(row, without));
  return (
    <tr className="border-b border-rule">
      <th scope="row" className="py-1 pr-2 text-left font-medium">
        {row.words}
      </th>
      <td className={row.holds < STOOD ? "font-semibold text-barn" : ""}>{weeksOf(row.holds)}</td>
      {row.nights.map((night) => (
        <td
          key={night.date}
          className={`pr-2 ${broken.has(night) ? "bg-closed font-semibold text-barn" : "text-ink-2"}`}
        >
          {percent(night.holds)}
          <span aria-hidden className="block h-1.5 w-16 border border-rule-strong">
            <span
              className={`block h-full ${night.holds < STOOD ? "bg-barn" : "bg-slate"}`}
              style={{ width: `${night.holds * 100}%` }}
            />
          </span>
        </td>
      ))}
      <td className="py-1 text-right whitespace-nowrap">
        {row.happens && row.holds < 1 && (
          <Button small onClick={() => onBalance([row.happens as Happening])}>
            Balance it
          </Button>
        )}
      </td>
    </tr>
  );
}
