import { useQuery } from "@tanstack/react-query";
import { clsx } from "clsx";
import { ChevronLeft, ChevronRight } from "lucide-react";
import { scaleLinear } from "d3-scale";
import { type KeyboardEvent, useMemo, useState } from "react";
import { computationsQuery, isStale, newestFor, type Sure } from "../api/balanceQueries";
import { type NightMark, pastNightsQuery } from "../api/runQueries";
import { addDays, clock, dateWords, duration, HOUR, millis } from "../time/time";
import { Hint } from "../ui/Hint";
import { Verdict } from "../ui/Verdict";
import { count, weeksOf } from "../ui/words";
import { MonthView } from "./MonthView";
import { Silhouette } from "../ui/Silhouette";
import { useWorkbench } from "../workbench/store";

/** Seven nights under their roofs. A night chosen here is the night everywhere. */
export function WeekStrip() {
  const { week, awaited, adoptedWeek, date, goTo, plan, draft, considered, moves, attempting } =
    useWorkbench();
  const [month, setMonth] = useState(false);
  const confidences = useQuery(computationsQuery(plan.id, "confidence"));
  // What was drawn says nothing of a plan that is being changed.
  const known =
    considered.length || moves.length ? undefined : newestFor(confidences.data, draft, date);
  const sure = new Map(
    (known && !isStale(known, plan) ? known : undefined)?.result?.nights?.map((night) => [
      night.date,
      night,
    ]),
  );
  const over = usePastNights(plan.id);
  const zone = plan.time_zone;
  const heldOver = attempting?.type === "full" ? addDays(date, attempting.days) : null;
  const first = [...over.keys()].reduce((a, b) => (a < b ? a : b), plan.first_night);
  const bounded = (to: string) =>
    to < first ? first : to > plan.last_night ? plan.last_night : to;
  const onKey = (event: KeyboardEvent) => {
    const by = { ArrowLeft: -1, ArrowRight: 1, PageUp: -7, PageDown: 7 }[event.key];
    if (!by) return;
    event.preventDefault();
    const to = bounded(addDays(date, by));
    goTo(to);
    requestAnimationFrame(() =>
      document.querySelector<HTMLElement>(`[data-night="${to}"]`)?.focus(),
    );
  };
  return (
    <nav
      aria-label="Nights of the week"
      className="print:hidden flex h-[72px] shrink-0 items-stretch border-b border-rule px-2 narrow:h-auto narrow:flex-wrap"
    >
      <WeekStep label="The week before" to={bounded(addDays(date, -7))}>
        <ChevronLeft size={18} aria-hidden />
      </WeekStep>
      <div
        role="group"
        aria-label="Nights"
        className="grid flex-1 grid-cols-7 gap-1 py-1 narrow:gap-0 [&_svg]:narrow:hidden"
        onKeyDown={onKey}
      >
        {week.map((night, i) => {
          const day = dateWords(night.date);
          const past = night.forecast ? undefined : over.get(night.date);
          const before = adoptedWeek[i];
          const changed =
            before && JSON.stringify(before.silhouette) !== JSON.stringify(night.silhouette);
          return (
            <Hint
              key={night.date}
              quiet={attempting !== null}
              text={
                past ? (
                  <PastHint past={past} />
                ) : (
                  <NightHint date={night.date} sure={sure.get(night.date)} />
                )
              }
            >
              <button
                type="button"
                data-night={night.date}
                disabled={!night.forecast && !past}
                aria-current={night.date === date ? "date" : undefined}
                tabIndex={night.date === date ? 0 : -1}
                onClick={() => goTo(night.date)}
                className={clsx(
                  "flex min-w-0 items-center justify-between gap-2 rounded-[4px] border px-2 text-left narrow:px-1",
                  night.date === date
                    ? "border-ink bg-surface"
                    : "border-transparent hover:bg-surface disabled:opacity-50",
                  // The pointer that drags a bar hovers over nothing else.
                  night.date === heldOver && "border-dashed border-ink bg-surface",
                  awaited.includes(night.date) && "opacity-50",
                )}
                aria-busy={awaited.includes(night.date) || undefined}
              >
                <span className="min-w-0 leading-tight">
                  <span className="block font-semibold whitespace-nowrap">
                    {day.short} {day.day} <span className="sr-only">{day.month}</span>
                  </span>
                  {past ? (
                    <>
                      <span className="sr-only">past: </span>
                      <Verdict verdict={past.verdict} />
                    </>
                  ) : (
                    <Verdict verdict={night.verdict} />
                  )}
                  <span className="block text-xs text-ink-2">
                    <span className="sr-only">last run {past ? "ended" : "ends"} </span>
                    {clockOr((past ?? night).last_end, zone)}
                  </span>
                </span>
                {past ? (
                  <PastGlyph past={past} />
                ) : (
                  <Silhouette
                    night={night}
                    before={changed ? before : undefined}
                    sure={sure.get(night.date)}
                  />
                )}
              </button>
            </Hint>
          );
        })}
        {!week.length && (
          <p className="col-span-7 self-center text-ink-2" role="status">
            The week is being simulated …
          </p>
        )}
      </div>
      <WeekStep label="The week after" to={bounded(addDays(date, 7))}>
        <ChevronRight size={18} aria-hidden />
      </WeekStep>
      <span className="flex flex-col justify-center gap-0.5 pl-2 text-xs text-ink-2 narrow:w-full narrow:flex-row narrow:items-center narrow:justify-start narrow:gap-2 narrow:pb-1 [&>span]:gap-2">
        <span className="flex items-center justify-between">
          <label htmlFor="night-of">Night of</label>
          <button
            type="button"
            className="text-ink underline underline-offset-2 print:hidden"
            onClick={() => setMonth(true)}
          >
            Month
          </button>
        </span>
        <input
          id="night-of"
          type="date"
          value={date}
          min={first}
          max={plan.last_night}
          onChange={(event) => {
            if (event.target.validity.valid && event.target.value) goTo(event.target.value);
          }}
          className="w-[118px] rounded-[3px] border border-rule-strong bg-surface px-1 py-0.5 text-ink"
        />
      </span>
      <MonthView open={month} onOpen={setMonth} />
    </nav>
  );
}

const clockOr = (at: string | null, zone: string) => (at ? clock(at, zone) : "–");

/** The nights that the ledger knows to be over, by date. */
function usePastNights(plan: number): ReadonlyMap<string, NightMark> {
  const found = useQuery({ ...pastNightsQuery(plan), staleTime: 60_000 });
  const nights = found.data?.nights;
  return useMemo(() => new Map(nights?.map((night) => [night.date, night])), [nights]);
}

const GLYPH = { width: 96, height: 46, from: 6, to: 22 };

/** A night that is over: when it was to end (line) and when it did (bar). */
function PastGlyph({ past }: { past: NightMark }) {
  const x = (at: string) =>
    scaleLinear([GLYPH.from, GLYPH.to], [0, GLYPH.width]).clamp(true)(
      (millis(at) - millis(past.start)) / HOUR,
    );
  const fill =
    past.verdict === "over" ? "fill-barn" : past.verdict === "tight" ? "fill-hay" : "fill-slate";
  return (
    <svg width={GLYPH.width} height={GLYPH.height} aria-hidden className="shrink-0">
      <line x1={0} x2={GLYPH.width} y1={34.5} y2={34.5} stroke="var(--rule-strong)" />
      {past.last_end && <rect x={0} y={20} width={x(past.last_end)} height={10} className={fill} />}
      {past.predicted_end && (
        <line
          x1={x(past.predicted_end)}
          x2={x(past.predicted_end)}
          y1={12}
          y2={34}
          stroke="var(--ink)"
          strokeWidth={1.5}
        />
      )}
    </svg>
  );
}

function PastHint({ past }: { past: NightMark }) {
  const { plan } = useWorkbench();
  return (
    <>
      Past: {past.done} of {count(past.total, "machine")} done
      {past.predicted_end && `; predicted to end ${clock(past.predicted_end, plan.time_zone)}`}.
      {past.why && <span className="block text-ink-2">{past.why}</span>}
    </>
  );
}

function WeekStep({
  label,
  to,
  children,
}: {
  label: string;
  to: string;
  children: React.ReactNode;
}) {
  const { goTo, date } = useWorkbench();
  return (
    <Hint text={label}>
      <button
        type="button"
        aria-label={label}
        disabled={to === date}
        onClick={() => goTo(to)}
        className="w-7 self-center rounded-[3px] py-3 text-ink-2 hover:bg-closed disabled:opacity-30"
      >
        {children}
      </button>
    </Hint>
  );
}

function NightHint({ date, sure }: { date: string; sure: Sure | undefined }) {
  const { week, plan } = useWorkbench();
  const night = week.find((n) => n.date === date);
  if (!night?.forecast)
    return (
      <>
        This night is past, and the ledger has nothing of it. The forecast begins with the night of{" "}
        {dateWords(plan.first_night).short}.
      </>
    );
  return (
    <>
      {night.runs} runs, {night.missed ? `${night.missed} machines not backed up` : "all done"}
      {night.over_s > 0 && `, ${duration(night.over_s)} late`}.
      {sure?.late_end && (
        <span className="block">
          It ends inside its windows in {weeksOf(sure.holds)}; 95 of 100 end by{" "}
          {clock(sure.late_end, plan.time_zone)}.
        </span>
      )}
      {night.silhouette?.label && (
        <span className="block text-ink-2">Drawn: {night.silhouette.label}, its busiest.</span>
      )}
    </>
  );
}
