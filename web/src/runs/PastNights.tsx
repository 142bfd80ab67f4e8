import { FailureRates } from "./FailureRates";
import { ForecastErrors } from "./ForecastErrors";
import { LearnedChanges } from "./LearnedChanges";
import { LearnedRates } from "./LearnedRates";
import { LearnedTimes } from "./LearnedTimes";
import { LearnedRatios } from "./LearnedRatios";
import { TableFiles } from "../ui/TableFiles";
import { useQuery } from "@tanstack/react-query";
import { FileText } from "lucide-react";
import { clsx } from "clsx";
import { type ReactNode, useMemo } from "react";
import { Link, type To } from "react-router";
import { type NightMark, pastNightQuery, pastNightsQuery, type RunBar } from "../api/runQueries";
import { clock, dateWords, HOUR, millis } from "../time/time";
import { Pending } from "../ui/Pending";
import { useRoving } from "../ui/roving";
import { Verdict } from "../ui/Verdict";
import { keyOf, NightChart } from "./NightChart";
import { LedgerRunSheet } from "./RunSheet";
import { Legend } from "./Tonight";

interface Props {
  plan: number;
  zone: string;
  night: string | null;
  chosen: string | null;
  reportLink: (night: string) => string;
  onNight: (night: string) => void;
  onChoose: (key: string | null) => void;
}

/** One mark a night over two months; one of them opens below in two layers. */
export function PastNights(props: Props) {
  const { plan, onNight, reportLink, chosen, onChoose } = props;
  const found = useQuery(pastNightsQuery(plan));
  if (found.error || !found.data)
    return <Pending error={found.error} text="Reading the past nights …" />;
  const nights = found.data.nights;
  const shown = props.night ?? nights[0]?.date ?? null;
  if (!shown)
    return (
      <p className="p-4">
        Nothing has run yet. Nights appear here once a runner has reported them, with what was
        predicted beside what came.
      </p>
    );
  return (
    <OpenNight
      plan={plan}
      zone={found.data.zone}
      shown={shown}
      chosen={chosen}
      onChoose={onChoose}
      report={reportLink(shown)}
      below={
        <>
          <ForecastErrors plan={plan} />
          <LearnedRates plan={plan} />
          <LearnedTimes plan={plan} />
          <LearnedChanges plan={plan} zone={found.data.zone} />
          <LearnedRatios plan={plan} />
          <FailureRates plan={plan} />
        </>
      }
    >
      <p className="py-1 text-sm text-ink-2">
        When the last run with a window ended: predicted (line) and as it came (dot; square where
        the night was over).{" "}
        <TableFiles of={`plans/${plan}/tables/past-nights`} what="Past nights" />
      </p>
      <Marks nights={nights} shown={shown} zone={found.data.zone} onNight={onNight} />
    </OpenNight>
  );
}

const WIDTH = 1180;
const HEIGHT = 132;

function Marks(props: {
  nights: readonly NightMark[];
  shown: string;
  zone: string;
  onNight: (night: string) => void;
}) {
  const { shown, zone, onNight } = props;
  const nights = useMemo(() => [...props.nights].reverse(), [props.nights]);
  const ends = nights.flatMap((n) =>
    [n.predicted_end, n.last_end]
      .filter((at) => at !== null)
      .map((at) => (millis(at) - millis(n.start)) / HOUR),
  );
  const low = Math.floor(Math.min(...ends, 11)) - 0.5;
  const high = Math.ceil(Math.max(...ends, 18)) + 0.5;
  const y = (hours: number) => 8 + ((hours - low) / (high - low)) * (HEIGHT - 30);
  const roving = useRoving<HTMLDivElement>();
  const step = WIDTH / Math.max(1, nights.length);
  const hours = [12, 15, 18, 21].filter((h) => h > low && h < high);
  const noon = nights[0] ? millis(nights[0].start) : 0;
  return (
    <div className="relative" style={{ height: HEIGHT }}>
      <svg
        viewBox={`0 0 ${WIDTH} ${HEIGHT}`}
        preserveAspectRatio="none"
        className="absolute inset-0 h-full w-full"
        aria-hidden
      >
        {hours.map((h) => (
          <line key={h} x1={0} x2={WIDTH} y1={y(h)} y2={y(h)} stroke="var(--rule)" />
        ))}
        {nights.map((night, i) => {
          const x = (i + 0.5) * step;
          const place = (at: string | null) =>
            at === null ? null : y((millis(at) - millis(night.start)) / HOUR);
          const predicted = place(night.predicted_end);
          const came = place(night.last_end);
          const colour =
            night.verdict === "over"
              ? "var(--barn)"
              : night.verdict === "tight"
                ? "var(--hay)"
                : "var(--slate)";
          return (
            <g key={night.date}>
              {night.date === shown && (
                <rect x={i * step} width={step} y={0} height={HEIGHT} fill="var(--closed)" />
              )}
              {predicted !== null && (
                <line
                  x1={x - step * 0.36}
                  x2={x + step * 0.36}
                  y1={predicted}
                  y2={predicted}
                  stroke="var(--ink)"
                  strokeWidth={1.5}
                />
              )}
              {predicted !== null && came !== null && (
                <line x1={x} x2={x} y1={predicted} y2={came} stroke={colour} strokeWidth={2} />
              )}
              {came !== null &&
                (night.verdict === "over" ? (
                  <rect x={x - 4} y={came - 4} width={8} height={8} fill={colour} />
                ) : (
                  <circle cx={x} cy={came} r={3.5} fill={colour} />
                ))}
            </g>
          );
        })}
      </svg>
      {hours.map((h) => (
        <span
          key={h}
          className="absolute left-0 -translate-y-1/2 bg-ground pr-1 text-xs text-ink-2"
          style={{ top: `${(100 * y(h)) / HEIGHT}%` }}
          aria-hidden
        >
          {clock(noon + h * HOUR, zone)}
        </span>
      ))}
      <div className="absolute inset-x-0 bottom-0 flex" aria-hidden>
        {nights.map((night, i) => (
          <span key={night.date} className="relative h-4 flex-1">
            {(dateWords(night.date).short === "Mon" || i === 0) && (
              <span className="absolute bottom-0 left-0 text-xs whitespace-nowrap text-ink-2">
                {dateWords(night.date).day} {dateWords(night.date).month.slice(0, 3)}
              </span>
            )}
          </span>
        ))}
      </div>
      <div ref={roving} className="absolute inset-0 flex">
        {nights.map((night) => (
          <button
            key={night.date}
            type="button"
            aria-pressed={night.date === shown}
            aria-label={markInWords(night, zone)}
            title={markInWords(night, zone)}
            onClick={() => onNight(night.date)}
            className="relative flex-1 focus-visible:-outline-offset-2"
          ></button>
        ))}
      </div>
    </div>
  );
}

function markInWords(night: NightMark, zone: string): string {
  const { long, day, month } = dateWords(night.date);
  const said = [`${long} ${day} ${month}: ${night.verdict}`];
  if (night.predicted_end) said.push(`predicted to end ${clock(night.predicted_end, zone)}`);
  if (night.last_end) said.push(`ended ${clock(night.last_end, zone)}`);
  said.push(`${night.done} of ${night.total} machines done`);
  if (night.why) said.push(night.why);
  return said.join(", ");
}

/** A night that is over in two layers, with a run's sheet beside it. */
export function OpenNight(props: {
  plan: number;
  zone: string;
  shown: string;
  chosen: string | null;
  onChoose: (key: string | null) => void;
  report: To;
  /** What stands above the night. */
  children?: ReactNode;
  /** What stands below it. */
  below?: ReactNode;
}) {
  const { plan, zone, shown, chosen, onChoose, report, children, below } = props;
  const marks = useQuery(pastNightsQuery(plan));
  const found = useQuery({
    ...pastNightQuery(plan, shown),
    placeholderData: (before) => before,
  });
  const mark = marks.data?.nights.find((m) => m.date === shown);
  const night = found.data;
  const run: RunBar | undefined = night?.runs.find((each) => keyOf(each) === chosen);
  const { long, day, month } = dateWords(shown);
  return (
    <div className="flex min-h-0 flex-1 narrow:flex-col">
      <section
        aria-label="Past nights"
        tabIndex={0}
        className="min-w-0 flex-1 overflow-y-auto px-4 pb-4"
      >
        {children}
        <div className="flex items-baseline gap-4 pt-3 pb-1">
          <h1 className="text-xl font-semibold">
            {long} {day} {month}
          </h1>
          {mark && <Verdict verdict={mark.verdict} />}
          {mark?.predicted_verdict && (
            <span className="text-ink-2">predicted: {mark.predicted_verdict}</span>
          )}
          <span className="min-w-0 flex-1 truncate">{mark?.why}</span>
          <Link
            to={report}
            className="inline-flex items-center gap-1 underline decoration-1 underline-offset-3"
          >
            <FileText size={14} aria-hidden /> Morning report
          </Link>
        </div>
        {found.error && <p role="alert">{found.error.message}</p>}
        {found.isPending && <p role="status">Reading the night …</p>}
        {night && (
          <div className={clsx(found.isPlaceholderData && "opacity-50")}>
            <NightChart
              runs={night.runs}
              start={night.summary.start}
              end={night.summary.end}
              zone={zone}
              now={null}
              chosen={chosen}
              onChoose={(each) => onChoose(keyOf(each) === chosen ? null : keyOf(each))}
            />
            <Legend />
          </div>
        )}
        {below}
      </section>
      {run && (
        <LedgerRunSheet
          key={keyOf(run)}
          plan={plan}
          zone={zone}
          run={run}
          ordersPossible={false}
          onClose={() => onChoose(null)}
        />
      )}
    </div>
  );
}
