import { clsx } from "clsx";
import type { RunBar, RunOutlook } from "../api/runQueries";
import { clock, dayClock, duration, hourTicks, millis } from "../time/time";
import { useRoving } from "../ui/roving";
import { count } from "../ui/words";
import { lanesOf, shownSpan, tickHours } from "./chart";

const NAME_PX = 190;

interface Props {
  runs: readonly RunBar[];
  start: string;
  end: string;
  zone: string;
  /** Where the runner's clock stands; null for a night that is over. */
  now: number | null;
  chosen: string | null;
  onChoose: (run: RunBar) => void;
  /** How the runs that are not over are likely to end, by their keys. */
  outlook?: ReadonlyMap<string, RunOutlook>;
}

export const keyOf = (run: RunBar) => `${run.job} ${run.occurrence}`;

/**
 * A night in two layers: what was predicted as an outline, what really ran as the solid bar, and
 * how it goes on from now as a bar with a broken edge.
 */
export function NightChart(props: Props) {
  const { runs, start, end, zone, now, chosen, onChoose, outlook } = props;
  const [from, to] = shownSpan(runs, millis(start), millis(end), now);
  const part = (at: number) => `${(100 * (at - from)) / (to - from)}%`;
  const lanes = lanesOf(runs);
  const roving = useRoving<HTMLDivElement>();
  const ticks = hourTicks(from, to, tickHours(from, to), zone);
  return (
    <div ref={roving} className="relative" role="group" aria-label="Runs of the night, by job">
      <div className="relative h-5" style={{ marginLeft: NAME_PX }} aria-hidden>
        {ticks.map((at) => (
          <span
            key={at}
            className="absolute -translate-x-1/2 text-xs text-ink-2"
            style={{ left: part(at) }}
          >
            {clock(at, zone)}
          </span>
        ))}
      </div>
      <div className="relative">
        <div className="absolute inset-y-0 right-0" style={{ left: NAME_PX }} aria-hidden>
          {ticks.map((at) => (
            <span key={at} className="absolute inset-y-0 w-px bg-rule" style={{ left: part(at) }} />
          ))}
          {now !== null && now >= from && now <= to && (
            <span
              className="absolute inset-y-0 z-10 w-0.5 bg-barn"
              style={{ left: part(now) }}
              data-testid="now"
            />
          )}
        </div>
        {lanes.map((lane) => (
          <div key={lane.job} className="flex h-[19px] items-center border-b border-rule/60">
            <span className="shrink-0 truncate pr-2 text-sm" style={{ width: NAME_PX }}>
              {lane.name}
            </span>
            <div className="relative h-full flex-1 overflow-hidden">
              {lane.runs.map((run) => (
                <Bar
                  key={run.occurrence}
                  run={run}
                  zone={zone}
                  part={part}
                  now={now}
                  from={from}
                  to={to}
                  chosen={chosen === keyOf(run)}
                  outlook={run.ended ? undefined : outlook?.get(keyOf(run))}
                  onChoose={onChoose}
                />
              ))}
            </div>
          </div>
        ))}
      </div>
    </div>
  );
}

interface BarProps {
  run: RunBar;
  zone: string;
  part: (at: number) => string;
  now: number | null;
  from: number;
  to: number;
  chosen: boolean;
  onChoose: (run: RunBar) => void;
  outlook: RunOutlook | undefined;
}

function Bar({ run, zone, part, now, from, to, chosen, onChoose, outlook }: BarProps) {
  const began = millis(run.began);
  const predicted = [millis(run.predicted_began), millis(run.predicted_ended)] as const;
  const ended = millis(run.ended) ?? (began === null ? null : (now ?? began));
  const begins = began ?? predicted[0] ?? millis(run.occurrence);
  const edge = [millis(outlook?.early ?? null), millis(outlook?.late ?? null)] as const;
  const goesOn = millis(run.ahead_end) ?? 0;
  const last = Math.max(ended ?? 0, predicted[1] ?? 0, goesOn, edge[1] ?? 0, begins);
  if (last < from || begins > to) return null;
  const window = millis(run.window_end);
  const span = (a: number, b: number) => ({
    left: part(a),
    width: `max(2px, calc(${part(b)} - ${part(a)}))`,
  });
  const tall = run.kind === "full";
  const missed = run.state === "ended" && run.failed > 0;
  return (
    <button
      type="button"
      aria-pressed={chosen}
      aria-label={inWords(run, zone, outlook)}
      title={inWords(run, zone, outlook)}
      onClick={() => onChoose(run)}
      className="absolute inset-y-0 focus-visible:-outline-offset-2"
      style={span(begins, last)}
    >
      <span className="sr-only">{run.name}</span>
      <BarLayers
        run={run}
        begins={begins}
        last={last}
        began={began}
        ended={ended}
        predicted={predicted}
        window={window}
        edge={edge}
        tall={tall}
        chosen={chosen}
      />
      {missed && (
        <span className="absolute top-0 right-0 bg-barn px-[3px] text-[10px] leading-[13px] font-semibold text-surface">
          {run.failed}
        </span>
      )}
    </button>
  );
}

interface Layers {
  run: RunBar;
  begins: number;
  last: number;
  began: number | null;
  ended: number | null;
  predicted: readonly [number | null, number | null];
  window: number | null;
  /** Between which instants it ends in 9 of 10 draws. */
  edge: readonly [number | null, number | null];
  tall: boolean;
  chosen: boolean;
}

/** The layers of a bar, placed inside the span from its first instant to its last. */
function BarLayers(p: Layers) {
  const inside = (a: number, b: number) => {
    const whole = Math.max(1, p.last - p.begins);
    return {
      left: `${(100 * (a - p.begins)) / whole}%`,
      width: `max(2px, ${(100 * (b - a)) / whole}%)`,
    };
  };
  const colour = p.tall ? "bg-slate" : p.run.kind === "differential" ? "bg-ochre" : "bg-sage";
  const ahead = millis(p.run.ahead_end);
  const height = p.tall ? "inset-y-[3px]" : "top-[7px] bottom-[3px]";
  return (
    <>
      {p.began !== null && p.ended !== null && (
        <span
          className={clsx("absolute rounded-[1px]", height, colour, p.chosen && "ring-2 ring-ink")}
          style={inside(p.began, p.ended)}
        />
      )}
      {p.window !== null && p.ended !== null && p.ended > p.window && (
        <span
          className={clsx("late-hatch absolute rounded-[1px]", height)}
          style={inside(Math.max(p.window, p.began ?? p.window), p.ended)}
        />
      )}
      {p.run.state === "under way" && ahead !== null && p.ended !== null && ahead > p.ended && (
        <span
          className={clsx(
            "absolute border border-dashed",
            height,
            p.window !== null && ahead > p.window ? "border-barn" : "border-ink-2",
          )}
          style={inside(p.ended, ahead)}
        />
      )}
      {p.edge[0] !== null && p.edge[1] !== null && (
        <span
          data-soft-edge
          className={clsx("soft-edge absolute", height)}
          style={inside(Math.max(p.edge[0], p.begins), p.edge[1])}
        />
      )}
      {p.predicted[0] !== null && p.predicted[1] !== null && (
        <span
          className={clsx(
            "absolute inset-y-[2px] rounded-[1px] border",
            p.began === null && !p.chosen ? "border-ink-2/60" : "border-ink",
          )}
          style={inside(p.predicted[0], p.predicted[1])}
        />
      )}
    </>
  );
}

function inWords(run: RunBar, zone: string, outlook?: RunOutlook): string {
  const said = [`${run.name}, due ${dayClock(run.occurrence, zone)}`];
  if (run.state === "due") said.push("not begun");
  if (run.state === "under way") {
    said.push(`${run.done} of ${count(run.total, "machine")} done`);
    if (run.ahead_end) said.push(`as it goes, ends ${clock(run.ahead_end, zone)}`);
  }
  if (run.ended) {
    said.push(`${run.outcome}, ended ${clock(run.ended, zone)}`);
    if (run.failed) said.push(`${count(run.failed, "machine")} not done`);
    if (run.predicted_ended) {
      const late = (millis(run.ended) - millis(run.predicted_ended)) / 1000;
      if (Math.abs(late) >= 60)
        said.push(`${duration(Math.abs(late))} ${late > 0 ? "later" : "earlier"} than predicted`);
    }
  }
  if (run.predicted_ended && !run.ended)
    said.push(`predicted to end ${clock(run.predicted_ended, zone)}`);
  if (outlook?.early && outlook.late)
    said.push(
      `in 9 of 10 draws ends between ${clock(outlook.early, zone)} and ${clock(outlook.late, zone)}`,
    );
  if (outlook?.likely_missed.length)
    said.push(`${count(outlook.likely_missed.length, "machine")} likely to be missed`);
  return said.join("; ");
}
