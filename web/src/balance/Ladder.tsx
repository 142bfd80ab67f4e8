import { useQueries } from "@tanstack/react-query";
import { RadioGroup } from "radix-ui";
import { useId } from "react";
import { operationsOf, type Rung } from "../api/balanceQueries";
import type { NightSummary, Plan } from "../api/client";
import * as q from "../api/planQueries";
import { Silhouette } from "../ui/Silhouette";
import { count, weeksOf } from "../ui/words";
import { useWorkbench } from "../workbench/store";

/** A plan that fits in fewer weeks than this is marked. */
const SURE = 0.95;

/** The width that the rungs share where there is room, and what a rung needs beside its nights. */
const ROW = 1240;
const PADDING = 20;
const WIDEST_NIGHT = 30;

type Told = Rung["after"];

/** The best plan of each number of moves, beside one another as silhouettes of the week. */
export function Ladder({
  rungs,
  chosen,
  onChoose,
  before,
}: {
  rungs: readonly Rung[];
  chosen: number;
  onChoose: (rung: number) => void;
  before: Told;
}) {
  const { plan, draft, date, week } = useWorkbench();
  const found = useQueries({
    queries: rungs.map((rung) => weekWith(plan, draft, date, rung)),
  });
  const width = Math.min(WIDEST_NIGHT, Math.floor((ROW / rungs.length - PADDING - 8) / 7));
  const asItIs = week.filter((night) => before.nights.some((told) => told.date === night.date));
  return (
    <RadioGroup.Root
      aria-label="Plans by the number of their moves"
      className="mt-1 grid gap-2"
      style={{
        gridTemplateColumns: `repeat(auto-fit, minmax(${7 * width + PADDING}px, 1fr))`,
      }}
      value={String(chosen)}
      onValueChange={(value) => onChoose(Number(value))}
    >
      {rungs.map((rung, i) => (
        <Step
          key={rung.moves.length}
          rung={rung}
          value={String(i)}
          width={width}
          nights={found[i]?.data?.nights ?? asItIs}
        />
      ))}
    </RadioGroup.Root>
  );
}

function Step({
  rung,
  value,
  width,
  nights,
}: {
  rung: Rung;
  value: string;
  width: number;
  nights: readonly NightSummary[];
}) {
  const label = useId();
  const more = useId();
  const sure = new Map(rung.chances.map((night) => [night.date, night]));
  const size = count(rung.moves.length, "move");
  return (
    <RadioGroup.Item
      value={value}
      aria-labelledby={label}
      aria-describedby={more}
      className="flex flex-col items-start gap-0.5 border border-rule px-2 py-1.5 text-left data-[state=checked]:border-ink data-[state=checked]:bg-closed"
    >
      <span id={label}>
        <strong>{size}</strong>: {rung.reaches}
      </span>
      <span aria-hidden className="flex h-[26px] items-end">
        {nights.map((night) => (
          <Silhouette
            key={night.date}
            night={night}
            sure={sure.get(night.date)}
            width={width}
            height={26}
          />
        ))}
      </span>
      <span id={more} className="text-xs text-ink-2">
        <span className="block">{rung.buys.join("; ")}</span>
        {rung.chance === null ? null : (
          <span className={`block ${rung.chance < SURE ? "text-barn" : ""}`}>
            {chanceWords(rung.chance)}
          </span>
        )}
        {rung.losses.length > 0 && <span className="block">{lossWords(rung.losses)}</span>}
      </span>
    </RadioGroup.Item>
  );
}

/** The nights of a week with the moves of a rung, as its draft would show them. */
const weekWith = (
  plan: Plan,
  draft: { id: number; revision: number } | null,
  day: string,
  rung: Rung,
) => {
  const operations = operationsOf(rung.moves);
  return {
    queryKey: ["plan", plan.id, "rung", q.stateOf(plan, draft), day, JSON.stringify(operations)],
    queryFn: ({ signal }: { signal: AbortSignal }) =>
      q.preview(
        plan.id,
        { draft: draft?.id ?? null, night: day, scope: "week", load: null, operations },
        signal,
      ),
  };
};

export const chanceWords = (chance: number) => `fits in ${weeksOf(chance)}`;

/** How many losses break a plan, and which of them most. */
export function lossWords(losses: Rung["losses"]): string {
  const broken = losses.filter((loss) => !loss.fits);
  if (!broken.length) return losses.length > 1 ? "fits after any one loss" : "fits after the loss";
  return `breaks after ${broken.length} of ${losses.length} losses, most if ${broken[0]!.words}`;
}

/** What becomes of a plan after each loss, the worst first. */
export function Losses({ losses }: { losses: Rung["losses"] }) {
  if (!losses.length) return null;
  return (
    <section aria-label="After one loss" className="mt-4">
      <h2 className="text-lg font-semibold">After one loss</h2>
      <ul>
        {losses.map((loss) => (
          <li key={loss.words} className="border-t border-rule py-1">
            If {loss.words}:{" "}
            <span className={loss.fits ? "text-ink-2" : "text-barn"}>{loss.reaches}</span>
          </li>
        ))}
      </ul>
    </section>
  );
}
