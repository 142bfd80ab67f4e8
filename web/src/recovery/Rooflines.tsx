import type { Recovery } from "../api/recoveryQueries";
import { amount } from "../ui/words";
import { spanOf } from "./asked";
import { END_PX, NAME_PX } from "./Curves";

const HEIGHT = 46;
type Steps = readonly (readonly number[])[];

/** What the restores, and all else, load the tightest places with, under their capacity. */
export function Rooflines({ recovery }: { recovery: Recovery }) {
  const [from, to] = spanOf(recovery);
  const seconds = (to - from) / 1000;
  if (!recovery.loads.length) return null;
  return (
    <div role="group" aria-label="Rooflines of what limits the restores" className="pt-2 pb-3">
      {recovery.loads.map((load) => {
        const restores = summed(load.parts.filter((part) => part.purpose === "restore"));
        const all = summed(load.parts);
        const roof = (load.capacity ?? []) as Steps;
        const most = Math.max(load.peak, ...roof.map((step) => step[1]!)) * 1.12 || 1;
        const y = (value: number) => HEIGHT - (HEIGHT - 4) * (value / most);
        const x = (at: number) => Math.min(1000, Math.max(0, (1000 * at) / seconds));
        return (
          <div key={load.name} className="flex border-b border-rule/60" style={{ height: HEIGHT }}>
            <div className="shrink-0 pt-1 pr-2 leading-tight" style={{ width: NAME_PX }}>
              <span className="block truncate" title={load.label}>
                {load.label}
              </span>
              <span className="text-xs text-ink-2">
                {roof[0] ? `of ${amount(roof[0][1]!, load.unit)}` : "no limit"}
              </span>
            </div>
            <svg
              viewBox={`0 0 1000 ${HEIGHT}`}
              preserveAspectRatio="none"
              className="min-w-0 flex-1"
              aria-hidden
            >
              <path d={area(all, x, y)} fill="var(--sage)" opacity={0.55} />
              <path d={area(restores, x, y)} fill="var(--slate)" />
              {roof.length > 0 && (
                <path
                  d={line(roof, x, y)}
                  fill="none"
                  stroke="var(--ink)"
                  strokeWidth={1.5}
                  vectorEffect="non-scaling-stroke"
                />
              )}
            </svg>
            <div className="shrink-0 pt-1 pl-2 text-xs text-ink-2" style={{ width: END_PX }}>
              at most {amount(load.peak, load.unit)}
            </div>
          </div>
        );
      })}
    </div>
  );
}

/** Several step curves added up. */
function summed(parts: readonly { steps: Steps }[]): [number, number][] {
  const changes = new Map<number, number>();
  for (const { steps } of parts) {
    let before = 0;
    for (const [at, value] of steps) {
      changes.set(at!, (changes.get(at!) ?? 0) + value! - before);
      before = value!;
    }
  }
  let total = 0;
  return [...changes]
    .sort((a, b) => a[0] - b[0])
    .map(([at, change]) => [at, (total += change)] as [number, number]);
}

function line(steps: Steps, x: (at: number) => number, y: (value: number) => number): string {
  let path = "";
  steps.forEach(([at, value], i) => {
    const here = x(i === 0 ? 0 : at!).toFixed(1);
    path += i === 0 ? `M${here} ${y(value!).toFixed(1)}` : `H${here}V${y(value!).toFixed(1)}`;
  });
  return `${path}H1000`;
}

function area(steps: Steps, x: (at: number) => number, y: (value: number) => number): string {
  let path = `M0 ${HEIGHT}`;
  for (const [at, value] of steps) path += `H${x(at!).toFixed(1)}V${y(value!).toFixed(1)}`;
  return `${path}H1000V${HEIGHT}Z`;
}
