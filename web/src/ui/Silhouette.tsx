import { scaleLinear } from "d3-scale";
import { area, curveStepAfter } from "d3-shape";
import { useId } from "react";
import type { NightSummary } from "../api/client";

const WIDTH = 96;
const HEIGHT = 46;
const ROOF = 13;
const FLOOR = HEIGHT - 1;

type Shape = NonNullable<NightSummary["silhouette"]>;

/**
 * The part of a night that is drawn: its walls with some room, more of it where things run late.
 */
function shown(shape: Shape): [number, number] {
  const open = shape.opens ?? 0;
  const close = shape.closes ?? 1;
  const room = close - open;
  return [Math.max(0, open - 0.16 * room), Math.min(1, close + 0.3 * room)];
}

function part<T>(bins: T[], [from, to]: [number, number]): T[] {
  return bins.slice(Math.floor(from * bins.length), Math.ceil(to * bins.length));
}

const height = scaleLinear([0, 1], [FLOOR, ROOF]).clamp(true);

function house(load: number[]): string {
  const x = scaleLinear([0, load.length], [0, WIDTH]);
  // The last value holds to the end of its part.
  const steps = [...load, load.at(-1) ?? 0];
  return (
    area<number>((_, i) => x(i), FLOOR, height)
      .curve(curveStepAfter)
      .digits(1)(steps) ?? ""
  );
}

function waiting(shape: Shape): string {
  const bins = part(shape.waiting, shown(shape));
  const most = Math.max(...bins);
  if (!most) return "";
  const step = WIDTH / bins.length;
  return bins
    .map((value, i) =>
      value
        ? `M${(i * step).toFixed(1)} ${ROOF - 1}V${(ROOF - 1 - (value / most) * (ROOF - 3)).toFixed(1)}h${step.toFixed(1)}V${ROOF - 1}Z`
        : "",
    )
    .join("");
}

/**
 * A night as the load of its busiest slots under the roof: what stands outside the walls is over.
 */
export function Silhouette({
  night,
  before,
  sure,
  width = WIDTH,
  height: high = HEIGHT,
}: {
  night: NightSummary;
  before?: NightSummary | undefined;
  /** When the last run ends in half of all weeks, and in 95 of 100: drawn as a soft edge. */
  sure?: { median_end: string | null; late_end: string | null } | undefined;
  /** In pixels; other proportions stretch it. */
  width?: number;
  height?: number;
}) {
  const id = useId();
  const shape = night.silhouette;
  if (!shape) return null;
  const [from, to] = shown(shape);
  const x = scaleLinear([from, to], [0, WIDTH]);
  const open = x(shape.opens ?? 0);
  const close = x(shape.closes ?? 1);
  const fill = night.verdict === "tight" ? "var(--hay)" : "var(--slate)";
  const load = house(part(shape.load, [from, to]));
  const place = (at: string) =>
    x(
      (Date.parse(at) - Date.parse(night.start)) /
        (Date.parse(night.end) - Date.parse(night.start)),
    );
  const soft =
    sure?.median_end && sure.late_end
      ? ([place(sure.median_end), place(sure.late_end)] as const)
      : null;
  const roof = `M${open - 6} ${FLOOR}L${open - 3.4} ${ROOF + 13}L${open} ${ROOF}H${close}L${close + 3.4} ${ROOF + 13}L${close + 6} ${FLOOR}`;
  return (
    <svg
      viewBox={`0 0 ${WIDTH} ${HEIGHT}`}
      width={width}
      height={high}
      preserveAspectRatio="none"
      aria-hidden
      className="shrink-0"
    >
      <defs>
        <pattern
          id={id}
          width="4"
          height="4"
          patternUnits="userSpaceOnUse"
          patternTransform="rotate(45)"
        >
          <rect width="4" height="4" fill="var(--surface)" />
          <rect width="2" height="4" fill="var(--barn)" />
        </pattern>
        <clipPath id={`${id}-clip`}>
          <rect x={close} y="0" width={Math.max(0, WIDTH - close)} height={HEIGHT} />
        </clipPath>
      </defs>
      <path d={load} fill={fill} opacity={night.verdict === "fits" ? 0.65 : 1} />
      {night.over_s > 0 && <path d={load} fill={`url(#${id})`} clipPath={`url(#${id}-clip)`} />}
      <path
        d={waiting(shape)}
        fill={night.verdict === "over" ? "var(--barn)" : "var(--ink-2)"}
        opacity="0.5"
      />
      {soft && (
        <>
          <linearGradient id={`soft-${night.date}`} x1="0" x2="1" y1="0" y2="0">
            <stop offset="0" stopColor="var(--ink-2)" stopOpacity="0.75" />
            <stop offset="1" stopColor="var(--ink-2)" stopOpacity="0.05" />
          </linearGradient>
          <rect
            x={soft[0]}
            y={ROOF + 6}
            width={Math.max(2, soft[1] - soft[0])}
            height={FLOOR - ROOF - 6}
            fill={`url(#soft-${night.date})`}
          />
        </>
      )}
      {before?.silhouette && (
        <path
          d={house(part(before.silhouette.load, [from, to]))}
          fill="none"
          stroke="var(--ink-2)"
          strokeWidth="0.75"
        />
      )}
      <path d={roof} fill="none" stroke="var(--ink)" strokeWidth="1.4" strokeLinejoin="round" />
    </svg>
  );
}
