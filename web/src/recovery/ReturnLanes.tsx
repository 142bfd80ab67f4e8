import { clsx } from "clsx";
import { type KeyboardEvent, useState } from "react";
import type { ComesBack, Recovery, Way } from "../api/recoveryQueries";
import { dayClock, duration, hourTicks } from "../time/time";
import { useRoving } from "../ui/roving";
import { hoursApart, OUTCOMES, placed, reordered, spanOf } from "./asked";
import { END_PX, NAME_PX } from "./Curves";

interface Props {
  recovery: Recovery;
  chosen: string | null;
  onChoose: (machine: string) => void;
  way: Way;
  onWay: (changes: Partial<Way>) => void;
}

/** A lane for each machine, by tier: its wait, set-up and stream, and the flag of its promise. */
export function ReturnLanes({ recovery, chosen, onChoose, way, onWay }: Props) {
  const [from, to] = spanOf(recovery);
  const zone = recovery.time_zone;
  const part = (at: number) => `${(100 * (at - from)) / (to - from)}%`;
  const ticks = hourTicks(from, to, hoursApart(from, to), zone);
  const roving = useRoving<HTMLDivElement>();
  const [dragged, setDragged] = useState<string | null>(null);
  const order = recovery.machines.map((row) => row.machine);
  const onKey = (event: KeyboardEvent, row: ComesBack) => {
    if (event.ctrlKey || event.altKey || event.metaKey) return;
    if (event.shiftKey && (event.key === "ArrowUp" || event.key === "ArrowDown")) {
      event.preventDefault();
      onWay({ order: reordered(recovery.machines, row.machine, event.key === "ArrowUp" ? -1 : 1) });
    } else if (event.key === "i") {
      event.preventDefault();
      onWay({ instant: toggled(way.instant ?? [], row.machine) });
    }
  };
  return (
    <div className="min-h-40 flex-1 overflow-y-auto narrow:overflow-visible">
      <p className="pt-1 text-xs text-ink-2">
        Drag a lane, or Shift with the arrow keys, for another order; I for an instant start; Enter
        for all about a machine.
      </p>
      <div ref={roving} role="group" aria-label="Machines as they come back">
        {recovery.tiers.map((tier) => (
          <div key={tier.tier} role="group" aria-label={`Tier ${tier.tier}`}>
            <h2 className="sticky top-0 z-10 bg-ground pt-1 font-semibold">
              {tier.tier}{" "}
              <span className="font-normal text-ink-2">
                {tier.machines} machine{tier.machines === 1 ? "" : "s"}
              </span>
            </h2>
            {recovery.machines
              .filter((row) => row.tier === tier.tier)
              .map((row) => (
                <button
                  key={row.machine}
                  type="button"
                  draggable
                  aria-pressed={row.machine === chosen}
                  data-machine={row.machine}
                  title={inWords(row, zone)}
                  className={clsx(
                    "flex h-5 w-full items-stretch border-b border-rule/50 text-left [content-visibility:auto] [contain-intrinsic-height:20px] focus-visible:-outline-offset-2",
                    row.machine === chosen ? "bg-closed" : "hover:bg-surface",
                    dragged === row.machine && "opacity-50",
                  )}
                  onClick={() => onChoose(row.machine)}
                  onKeyDown={(event) => onKey(event, row)}
                  onDragStart={(event) => {
                    event.dataTransfer.setData("text/plain", row.machine);
                    event.dataTransfer.effectAllowed = "move";
                    setDragged(row.machine);
                  }}
                  onDragEnd={() => setDragged(null)}
                  onDragOver={(event) => event.preventDefault()}
                  onDrop={(event) => {
                    event.preventDefault();
                    const moved = event.dataTransfer.getData("text/plain");
                    if (moved && moved !== row.machine && order.includes(moved))
                      onWay({
                        order: placed(
                          order,
                          moved,
                          row.machine,
                          order.indexOf(moved) < order.indexOf(row.machine),
                        ),
                      });
                    setDragged(null);
                  }}
                >
                  <span className="shrink-0 truncate pr-2" style={{ width: NAME_PX }}>
                    {row.machine}
                  </span>
                  <span className="relative min-w-0 flex-1 overflow-hidden" aria-hidden>
                    {ticks.map((at) => (
                      <span
                        key={at}
                        className="absolute inset-y-0 w-px bg-rule/60"
                        style={{ left: part(at) }}
                      />
                    ))}
                    <Bar row={row} begins={Date.parse(recovery.begins)} part={part} />
                  </span>
                  <span
                    className={clsx(
                      "shrink-0 truncate pl-2",
                      row.promise === "missed" ? "text-barn" : "text-ink-2",
                    )}
                    style={{ width: END_PX }}
                  >
                    {row.back
                      ? row.late_s
                        ? `${duration(row.late_s)} late`
                        : dayClock(row.back, zone)
                      : OUTCOMES[row.outcome]}
                  </span>
                  <span className="sr-only">{inWords(row, zone)}</span>
                </button>
              ))}
          </div>
        ))}
      </div>
    </div>
  );
}

export const toggled = (names: readonly string[], name: string) =>
  names.includes(name) ? names.filter((each) => each !== name) : [...names, name];

function Bar({
  row,
  begins,
  part,
}: {
  row: ComesBack;
  begins: number;
  part: (at: number) => string;
}) {
  const flag = row.promised_by ? Date.parse(row.promised_by) : null;
  const span = (a: number, b: number) => ({
    left: part(a),
    width: `max(2px, calc(${part(b)} - ${part(a)}))`,
  });
  const [start, ready, back, whole] = [row.start, row.ready, row.back, row.whole].map((at) =>
    at ? Date.parse(at) : null,
  );
  return (
    <>
      {start != null && (
        <span
          className="absolute top-1/2 h-px bg-ink-2"
          style={{ left: part(begins), width: `calc(${part(start)} - ${part(begins)})` }}
        />
      )}
      {start != null && ready != null && (
        <span className="absolute inset-y-[5px] border border-ink-2" style={span(start, ready)} />
      )}
      {ready != null && whole != null && (
        <span
          className={clsx(
            "absolute rounded-[1px]",
            row.method === "instant" ? "top-[9px] bottom-[3px] bg-sage" : "inset-y-[3px] bg-slate",
          )}
          style={span(ready, whole)}
        />
      )}
      {flag !== null && back != null && back > flag && start != null && (
        <span
          className="late-hatch absolute inset-y-[3px] rounded-[1px]"
          style={span(Math.max(flag, start), back)}
        />
      )}
      {flag !== null && (
        <span
          className={clsx(
            "absolute inset-y-0 w-0.5",
            row.promise === "missed" ? "bg-barn" : "bg-ink-2",
          )}
          style={{ left: part(flag) }}
        />
      )}
      {back == null && (
        <span
          className="absolute top-[6px] h-2 w-2 rounded-full border border-barn"
          style={{ left: `calc(${part(begins)} + 2px)` }}
        />
      )}
    </>
  );
}

function inWords(row: ComesBack, zone: string): string {
  const said = [];
  if (!row.back) said.push(OUTCOMES[row.outcome]);
  if (row.start) said.push(`starts ${dayClock(row.start, zone)}`);
  if (row.back) said.push(`back ${dayClock(row.back, zone)}`);
  if (row.method === "instant") said.push("instant start");
  if (row.late_s) said.push(`${duration(row.late_s)} after its promised time`);
  else if (row.promise === "met") said.push("within its promised time");
  return said.join(", ");
}
