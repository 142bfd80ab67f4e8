import { clsx } from "clsx";
import type { MachinePoint } from "../api/recoveryQueries";
import { DAY, dateClock, dateWords } from "../time/time";
import { useRoving } from "../ui/roving";
import { bytes, count } from "../ui/words";
import { useWorkbench } from "../workbench/store";
import { keyOf } from "./chains";

const NAME_PX = 210;
const HEIGHT = 58;

/** One line for each job and repository on one axis of time; arcs lead from a point to its base. */
export function PointLines({
  points,
  at,
  chosen,
  onChoose,
}: {
  points: readonly MachinePoint[];
  at: string;
  chosen: string | null;
  onChoose: (key: string) => void;
}) {
  const { plan } = useWorkbench();
  const roving = useRoving<HTMLDivElement>();
  const zone = plan.time_zone;
  if (!points.length) return null;
  const to = Date.parse(at);
  const first = Math.min(...points.map((point) => Date.parse(point.at)));
  const from = first - Math.max(DAY / 4, (to - first) * 0.02);
  const x = (instant: string | number) =>
    (100 * ((typeof instant === "number" ? instant : Date.parse(instant)) - from)) / (to - from);
  const days = daysBetween(from, to);
  const lines = new Map<string, MachinePoint[]>();
  for (const point of points) {
    const key = `${point.job} ${point.repository}`;
    lines.set(key, [...(lines.get(key) ?? []), point]);
  }
  return (
    <div ref={roving} role="group" aria-label="Points by job and repository" className="pt-2">
      <div className="relative h-5" style={{ marginLeft: NAME_PX }} aria-hidden>
        {days.map((day) => (
          <span
            key={day}
            className="absolute -translate-x-1/2 text-xs whitespace-nowrap text-ink-2"
            style={{ left: `${x(day)}%` }}
          >
            {dayOf(day)}
          </span>
        ))}
      </div>
      {[...lines].map(([key, mine]) => {
        const job = plan.jobs.find((each) => each.id === mine[0]!.job);
        const stored = mine.reduce((sum, point) => sum + point.stored_bytes, 0);
        return (
          <div key={key} data-row className="flex border-b border-rule" style={{ height: HEIGHT }}>
            <div className="shrink-0 pt-1 pr-2 leading-tight" style={{ width: NAME_PX }}>
              <span className="block truncate font-semibold">{mine[0]!.repository}</span>
              <span className="block truncate">{job?.name ?? mine[0]!.job}</span>
              <span className="block truncate text-xs text-ink-2">
                {count(mine.length, "point")}, {bytes(stored)}
              </span>
            </div>
            <div className="relative min-w-0 flex-1">
              <svg
                viewBox={`0 0 100 ${HEIGHT}`}
                preserveAspectRatio="none"
                className="absolute inset-0 h-full w-full"
                aria-hidden
              >
                {days.map((day) => (
                  <line
                    key={day}
                    x1={x(day)}
                    x2={x(day)}
                    y1={0}
                    y2={HEIGHT}
                    stroke="var(--rule)"
                    vectorEffect="non-scaling-stroke"
                  />
                ))}
                {mine.map(
                  (point) =>
                    point.base_at && (
                      <path
                        key={keyOf(point)}
                        d={arc(x(point.base_at), x(point.at))}
                        fill="none"
                        stroke={keyOf(point) === chosen ? "var(--ink)" : "var(--rule-strong)"}
                        vectorEffect="non-scaling-stroke"
                      />
                    ),
                )}
              </svg>
              {mine.map((point) => (
                <button
                  key={keyOf(point)}
                  type="button"
                  aria-pressed={keyOf(point) === chosen}
                  aria-label={inWords(point, zone)}
                  title={inWords(point, zone)}
                  onClick={() => onChoose(keyOf(point))}
                  className="absolute bottom-0 h-7 w-3 -translate-x-1/2"
                  style={{ left: `${x(point.at)}%` }}
                >
                  <span
                    className={clsx(
                      "absolute bottom-1 left-1/2 -translate-x-1/2",
                      point.kind === "full" && "h-5 w-2 bg-slate",
                      point.kind === "incremental" && "h-2.5 w-1.5 bg-sage",
                      point.kind === "differential" &&
                        "h-4 w-2 bg-ochre [clip-path:polygon(0_100%,100%_0,100%_100%)]",
                      !point.usable && "opacity-30",
                      keyOf(point) === chosen && "ring-2 ring-ink",
                    )}
                  />
                </button>
              ))}
            </div>
          </div>
        );
      })}
      <p className="pt-1 text-xs text-ink-2">
        Tall: full; low: incremental; wedge: differential. An arc leads to the point that it needs.
      </p>
    </div>
  );
}

function arc(from: number, to: number): string {
  const middle = (from + to) / 2;
  return `M${from.toFixed(2)} 34Q${middle.toFixed(2)} ${HEIGHT - 54} ${to.toFixed(2)} 40`;
}

/** Midnights in UTC along a span, a dozen at most. */
function daysBetween(from: number, to: number): number[] {
  const days = (to - from) / DAY;
  const step = [1, 2, 7, 14, 28, 91, 182].find((each) => days / each <= 12) ?? 365;
  const first = Math.ceil(from / DAY);
  const found = [];
  for (let day = first; day * DAY <= to; day += step) found.push(day * DAY);
  return found;
}

function dayOf(at: number): string {
  const { day, month } = dateWords(new Date(at).toISOString().slice(0, 10));
  return `${day} ${month.slice(0, 3)}`;
}

function inWords(point: MachinePoint, zone: string): string {
  const said = [`${point.kind} of ${dateClock(point.at, zone)}`, bytes(point.stored_bytes)];
  if (point.kept_by.length) said.push(`kept: ${point.kept_by.join("; ")}`);
  if (point.carries) said.push(`${count(point.carries, "point")} need it`);
  if (!point.usable) said.push("cannot be used");
  return said.join(", ");
}
