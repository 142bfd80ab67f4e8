import { clsx } from "clsx";
import { useLayoutEffect, useMemo, useRef, useState } from "react";
import type { Job, Load, Night } from "../api/client";
import { Button } from "../ui/Button";
import { useNarrow } from "../ui/narrow";
import { useTheme } from "../ui/theme";
import { clock, duration, millis } from "../time/time";
import { amount, count } from "../ui/words";
import {
  absolute,
  instantAt,
  type Lane,
  LABEL_WIDTH,
  ROOF_HEIGHT,
  type Shape,
  shapeOf,
  type TimeScale,
  valueAt,
  wallsOf,
} from "./geometry";
import { prepared } from "./paint/canvas";
import { paletteOf } from "./paint/palette";
import { paintRoof } from "./paint/rooflines";

interface Props {
  night: Night;
  lanes: Lane[];
  jobs: ReadonlyMap<string, Job>;
  scale: TimeScale;
  chosen: string | null;
  hovered: string | null;
  pointer: number | null;
  onPointer: (x: number | null) => void;
}

/** What each job mostly runs as: the shape of its largest run of the night. */
function shapesOf(lanes: readonly Lane[]): Map<string, Shape> {
  return new Map(
    lanes.flatMap((lane) => {
      const largest = [...lane.bars].sort((a, b) => b.run.source_bytes - a.run.source_bytes)[0];
      return largest ? [[lane.job.id, shapeOf(largest.run)] as const] : [];
    }),
  );
}

/** Loads under their roofs, below the lanes and on the same axis. */
export function Rooflines(props: Props) {
  const narrow = useNarrow();
  const [unfolded, setUnfolded] = useState(false);
  const shapes = useMemo(() => shapesOf(props.lanes), [props.lanes]);
  const bound = useMemo(
    () => new Set(props.lanes.filter((lane) => lane.window).map((lane) => lane.job.id)),
    [props.lanes],
  );
  if (narrow && !unfolded)
    return (
      <section aria-label="Rooflines" className="border-t border-rule-strong px-4 py-1">
        <Button small onClick={() => setUnfolded(true)}>
          Show {count(props.night.loads.length, "roofline")}
        </Button>
      </section>
    );
  return (
    <section aria-label="Rooflines" className="shrink-0 border-t border-rule-strong">
      {narrow && (
        <Button small look="plain" onClick={() => setUnfolded(false)}>
          Fold the rooflines
        </Button>
      )}
      {props.night.loads.map((load) => (
        <Roof key={load.name} load={load} shapes={shapes} bound={bound} {...props} />
      ))}
      {!props.night.loads.length && (
        <p className="px-4 py-2 text-ink-2">
          No roofline is chosen. “Rooflines” above the board picks proxies, links and repositories.
        </p>
      )}
    </section>
  );
}

function Roof(props: Props & { load: Load; shapes: Map<string, Shape>; bound: Set<string> }) {
  const { load, night, lanes, scale, shapes, bound, chosen, hovered, pointer, onPointer } = props;
  const canvas = useRef<HTMLCanvasElement>(null);
  const walls = useMemo(() => wallsOf(load, lanes), [load, lanes]);
  const theme = useTheme();
  useLayoutEffect(() => {
    if (!canvas.current || scale.width <= 0) return;
    const context = prepared(canvas.current, scale.width, ROOF_HEIGHT);
    if (!context) return;
    paintRoof(context, {
      load,
      scale,
      walls,
      shapes,
      bound,
      chosen,
      hovered,
      pointer,
      over: night.verdict === "over",
      nightStart: millis(night.start),
      zone: night.time_zone,
      palette: paletteOf(canvas.current),
      height: ROOF_HEIGHT,
    });
  }, [
    load,
    night.start,
    night.time_zone,
    night.verdict,
    scale,
    walls,
    shapes,
    bound,
    chosen,
    hovered,
    pointer,
    theme,
  ]);
  const capacities = (load.capacity ?? []).map(([, value]) => value ?? 0);
  const most = Math.max(0, ...capacities);
  const least = Math.min(most, ...capacities);
  return (
    <div className="relative flex" style={{ height: ROOF_HEIGHT + 6 }}>
      <div
        className="shrink-0 overflow-hidden pt-2 pl-4 leading-snug"
        style={{ width: LABEL_WIDTH }}
      >
        <h2 className="truncate font-semibold">{load.label}</h2>
        <p className="truncate text-xs text-ink-2">
          {most ? amount(most, load.unit) : "no limit"}
          {least < most && `, at times ${amount(least, load.unit)}`}
        </p>
        <p className="truncate text-xs">
          {load.full_s > 60 ? (
            <span className={clsx("font-semibold", night.verdict === "over" && "text-barn")}>
              full {duration(load.full_s)}, {count(load.waiting_jobs.length, "job")} wait
              {load.waiting_jobs.length === 1 && "s"}
            </span>
          ) : (
            <span className="text-ink-2">
              at most{" "}
              {most ? `${Math.round((100 * load.peak) / most)} %` : amount(load.peak, load.unit)}
            </span>
          )}
        </p>
      </div>
      <canvas
        ref={canvas}
        role="img"
        aria-label={`${load.label}: at most ${amount(load.peak, load.unit)}${most ? ` of ${amount(most, load.unit)}` : ""}, full for ${duration(load.full_s)}`}
        style={{ width: scale.width, height: ROOF_HEIGHT }}
        className="mt-1 block"
        onPointerMove={(event) =>
          onPointer(event.clientX - event.currentTarget.getBoundingClientRect().left)
        }
        onPointerLeave={() => onPointer(null)}
      />
      {pointer !== null && <RoofReading {...props} x={pointer} most={most} />}
    </div>
  );
}

/** Who uses a resource at the pointer, who waits, and how much is left. */
function RoofReading(props: Props & { load: Load; x: number; most: number }) {
  const { load, night, scale, jobs, x } = props;
  const start = millis(night.start);
  const at = instantAt(scale, x);
  const using = load.parts
    .map((part) => ({ ...part, value: valueAt(absolute(part.steps, start), at) }))
    .filter((entry) => entry.value > 0)
    .sort((a, b) => b.value - a.value);
  const used = using.reduce((sum, entry) => sum + entry.value, 0);
  const limit = load.capacity ? valueAt(absolute(load.capacity, start), at) : null;
  const waiting = valueAt(absolute(load.waiting, start), at);
  const what: Record<string, string> = { copy: " (copies)", rewrite: " (in the repository)" };
  const name = (id: string) => jobs.get(id)?.name ?? id;
  const shown = using
    .slice(0, 3)
    .map((e) => `${name(e.job)}${what[e.purpose] ?? ""} ${amount(e.value, load.unit)}`);
  if (using.length > 3) shown.push(`${using.length - 3} more`);
  const right = x > scale.width - 480;
  return (
    <p
      className="pointer-events-none absolute top-1 z-10 max-w-[520px] truncate border border-rule bg-raised px-1.5 text-xs whitespace-nowrap"
      style={right ? { right: scale.width - x + 8 } : { left: LABEL_WIDTH + x + 8 }}
    >
      <strong>{clock(at, night.time_zone)}</strong> {shown.join(", ") || "idle"}
      {limit !== null && ` · ${amount(Math.max(0, limit - used), load.unit)} left`}
      {waiting > 0 &&
        ` · ${load.unit === "slots" ? `${count(waiting, "disk")} waiting` : `${count(waiting, "stream")} held back`}`}
    </p>
  );
}
