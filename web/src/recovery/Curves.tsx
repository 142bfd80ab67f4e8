import type { Recovery } from "../api/recoveryQueries";
import { clock, dayClock, hourTicks } from "../time/time";
import { bytes } from "../ui/words";
import { backOverTime, hoursApart, spanOf } from "./asked";

export const NAME_PX = 190;
export const END_PX = 150;
const HEIGHT = 44;

/** For each tier the machines that are back over time, under the line of all that must come. */
export function Curves({ recovery }: { recovery: Recovery }) {
  const [from, to] = spanOf(recovery);
  const zone = recovery.time_zone;
  const x = (at: number) => (1000 * (at - from)) / (to - from);
  const ticks = hourTicks(from, to, hoursApart(from, to), zone);
  return (
    <div role="group" aria-label="Machines back over time, by tier">
      <div
        className="relative h-5"
        style={{ marginLeft: NAME_PX, marginRight: END_PX }}
        aria-hidden
      >
        {ticks.map((at) => (
          <span
            key={at}
            className="absolute -translate-x-1/2 text-xs whitespace-nowrap text-ink-2"
            style={{ left: `${x(at) / 10}%` }}
          >
            {to - from > 36 * 3_600_000 ? dayClock(at, zone) : clock(at, zone)}
          </span>
        ))}
      </div>
      {recovery.tiers.map((tier) => {
        const rows = recovery.machines.filter((row) => row.tier === tier.tier);
        const promises = [...new Set(rows.flatMap((row) => row.promised_by ?? []))];
        const y = (n: number) => 4 + (HEIGHT - 6) * (1 - n / tier.machines);
        let path = `M0 ${y(0)}`;
        for (const [at, n] of backOverTime(rows)) path += `H${x(at).toFixed(1)}V${y(n).toFixed(1)}`;
        path += "H1000";
        const bound = tier.bound ? Date.parse(tier.bound) : null;
        return (
          <div key={tier.tier} className="flex border-b border-rule/60" style={{ height: HEIGHT }}>
            <div className="shrink-0 pt-1 pr-2 leading-tight" style={{ width: NAME_PX }}>
              <b>{tier.tier}</b>{" "}
              <span className="text-ink-2">
                {tier.back} of {tier.machines} back
              </span>
              <br />
              {tier.late > 0 ? (
                <span className="text-barn">{tier.late} not as promised</span>
              ) : (
                <span className="text-ink-2">as promised</span>
              )}
            </div>
            <svg
              viewBox={`0 0 1000 ${HEIGHT}`}
              preserveAspectRatio="none"
              className="min-w-0 flex-1"
              aria-hidden
            >
              {ticks.map((at) => (
                <line
                  key={at}
                  x1={x(at)}
                  x2={x(at)}
                  y1={0}
                  y2={HEIGHT}
                  stroke="var(--rule)"
                  vectorEffect="non-scaling-stroke"
                />
              ))}
              <line
                x1={0}
                x2={1000}
                y1={y(tier.machines)}
                y2={y(tier.machines)}
                stroke="var(--ink)"
                vectorEffect="non-scaling-stroke"
              />
              <path d={`${path}V${HEIGHT}H0Z`} fill="var(--slate)" opacity={0.25} />
              <path
                d={path}
                fill="none"
                stroke="var(--slate)"
                strokeWidth={2}
                vectorEffect="non-scaling-stroke"
              />
              {promises.length === 1 && (
                <line
                  x1={x(Date.parse(promises[0]!))}
                  x2={x(Date.parse(promises[0]!))}
                  y1={0}
                  y2={HEIGHT}
                  stroke="var(--barn)"
                  strokeWidth={1.5}
                  strokeDasharray="4 3"
                  vectorEffect="non-scaling-stroke"
                />
              )}
              {bound !== null && (
                <line
                  x1={x(bound)}
                  x2={x(bound)}
                  y1={HEIGHT / 2}
                  y2={HEIGHT}
                  stroke="var(--ink)"
                  strokeWidth={2}
                  vectorEffect="non-scaling-stroke"
                />
              )}
            </svg>
            <div
              className="shrink-0 pt-1 pl-2 text-xs leading-tight text-ink-2"
              style={{ width: END_PX }}
              title={boundInWords(tier, zone)}
            >
              {tier.bound && (
                <>
                  no order before {clock(tier.bound, zone)}
                  <br />
                  <span className="block truncate">{tier.bound_by ?? "one machine alone"}</span>
                </>
              )}
            </div>
          </div>
        );
      })}
    </div>
  );
}

function boundInWords(tier: Recovery["tiers"][number], zone: string): string {
  if (!tier.bound) return "";
  const why = tier.bound_by
    ? `${tier.bound_by} has ${bytes(tier.bound_bytes)} to carry`
    : "one of its machines alone takes that long";
  return `No order brings all of ${tier.tier} back before ${dayClock(tier.bound, zone)}: ${why}.`;
}
