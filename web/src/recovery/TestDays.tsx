import { clsx } from "clsx";
import type { PlannedTest, TestDay } from "../api/recoveryQueries";
import { clock, dateWords, hourTicks, HOUR } from "../time/time";
import { Button } from "../ui/Button";
import { useRoving } from "../ui/roving";
import { count } from "../ui/words";

const LANE_PX = 16;

/** The coming days, each with its hours, what of them is free, and the tests in them. */
export function TestDays({
  days,
  zone,
  ordered,
  chosen,
  canOrder,
  onChoose,
  onOrder,
}: {
  days: readonly TestDay[];
  zone: string;
  /** Machines whose test is ordered already. */
  ordered: ReadonlySet<string>;
  chosen: string | null;
  canOrder: boolean;
  onChoose: (machine: string) => void;
  onOrder: (machines: string[]) => void;
}) {
  const roving = useRoving<HTMLDivElement>();
  return (
    <div ref={roving} role="group" aria-label="Tests of the coming days">
      {days.map((day) => {
        const open = day.tests.filter((test) => !ordered.has(test.machine));
        const said = dateWords(day.date);
        return (
          <div key={day.date} data-row className="flex items-start border-b border-rule py-1.5">
            <div className="w-36 shrink-0 leading-tight">
              <b>
                {said.short} {said.day} {said.month.slice(0, 3)}
              </b>
              <span className="block text-xs text-ink-2">{count(day.tests.length, "test")}</span>
              {canOrder && open.length > 0 && (
                <Button
                  small
                  className="mt-0.5"
                  aria-label={`Order ${count(open.length, "test")} of ${said.short} ${said.day}`}
                  onClick={() => onOrder(open.map((test) => test.machine))}
                >
                  Order {open.length}
                </Button>
              )}
            </div>
            <div className="min-w-0 flex-1">
              <Hours day={day} zone={zone}>
                {lanesOf(day.tests).map((lane, row) =>
                  lane.map((test) => (
                    <Test
                      key={test.machine}
                      test={test}
                      day={day}
                      zone={zone}
                      row={row}
                      chosen={test.machine === chosen}
                      ordered={ordered.has(test.machine)}
                      onChoose={() => onChoose(test.machine)}
                    />
                  )),
                )}
              </Hours>
              <p className="pt-0.5 text-xs text-ink-2">
                {day.tests.map((test) => `${clock(test.starts, zone)} ${test.machine}`).join(" · ")}
              </p>
            </div>
          </div>
        );
      })}
    </div>
  );
}

/** Tests side by side where they overlap. */
function lanesOf(tests: readonly PlannedTest[]): PlannedTest[][] {
  const lanes: PlannedTest[][] = [];
  for (const test of tests) {
    const free = lanes.find((lane) => lane.at(-1)!.ends <= test.starts);
    if (free) free.push(test);
    else lanes.push([test]);
  }
  return lanes;
}

const partOf = (day: TestDay, instant: string | number) => {
  const at = typeof instant === "number" ? instant : Date.parse(instant);
  const opens = Date.parse(day.opens);
  return (100 * (at - opens)) / (Date.parse(day.closes) - opens);
};

function Hours({
  day,
  zone,
  children,
}: {
  day: TestDay;
  zone: string;
  children: React.ReactNode[];
}) {
  const [from, to] = [Date.parse(day.opens), Date.parse(day.closes)];
  const step = to - from > 10 * HOUR ? 3 : 1;
  return (
    <div>
      <div className="relative h-4 text-xs text-ink-2" aria-hidden>
        {hourTicks(from, to, step, zone)
          .filter((tick) => partOf(day, tick) < 96)
          .map((tick) => (
            <span key={tick} className="absolute" style={{ left: `${partOf(day, tick)}%` }}>
              {clock(tick, zone)}
            </span>
          ))}
      </div>
      <div
        className="relative bg-closed"
        style={{ height: LANE_PX * Math.max(1, children.length) }}
      >
        {day.free.map((span) => (
          <span
            key={span.start}
            aria-hidden
            className="absolute inset-y-0 border-x border-rule bg-surface"
            style={{
              left: `${partOf(day, span.start)}%`,
              width: `${partOf(day, span.end) - partOf(day, span.start)}%`,
            }}
          />
        ))}
        {children}
      </div>
    </div>
  );
}

function Test({
  test,
  day,
  zone,
  row,
  chosen,
  ordered,
  onChoose,
}: {
  test: PlannedTest;
  day: TestDay;
  zone: string;
  row: number;
  chosen: boolean;
  ordered: boolean;
  onChoose: () => void;
}) {
  const said = `${test.machine}, ${clock(test.starts, zone)} to ${clock(test.ends, zone)}${ordered ? ", ordered" : ""}`;
  return (
    <button
      type="button"
      aria-pressed={chosen}
      aria-label={said}
      title={said}
      onClick={onChoose}
      className={clsx(
        "absolute border border-ink",
        ordered ? "bg-slate text-surface" : "bg-raised",
        chosen && "ring-2 ring-ink",
      )}
      style={{
        left: `${partOf(day, test.starts)}%`,
        width: `max(10px, ${partOf(day, test.ends) - partOf(day, test.starts)}%)`,
        top: row * LANE_PX + 1,
        height: LANE_PX - 2,
      }}
    />
  );
}
