/** Load curves under their capacity. */

import { type Load } from "../../api/client";
import { absolute, type Shape, type Span, type TimeScale, valueAt, xOf } from "../geometry";
import { paintGrid, paintPointer } from "./axis";
import { hatch } from "./canvas";
import { type Palette, hueOf } from "./palette";

export interface RoofPaint {
  load: Load;
  nightStart: number;
  scale: TimeScale;
  zone: string;
  palette: Palette;
  height: number;
  walls: Span | null;
  /** what each job mostly runs as that night, for its hue, and its position, for its shade */
  shapes: ReadonlyMap<string, Shape>;
  bound: ReadonlySet<string>;
  over: boolean;
  chosen: string | null;
  hovered: string | null;
  pointer: number | null;
}

/** Part of the height at which the roof stands; what waits for it goes above. */
export const ROOF_LEVEL = 0.66;

interface Layer {
  job: string;
  purpose: string;
  below: [number, number][];
  above: [number, number][];
}

/** Loads of the jobs, each on top of the ones before, as steps over the same instants. */
export function stacked(load: Load, start: number): Layer[] {
  const series = load.parts.map((part) => ({ ...part, steps: absolute(part.steps, start) }));
  const instants = [...new Set(series.flatMap((s) => s.steps.map(([at]) => at)))].sort(
    (a, b) => a - b,
  );
  const total = new Map(instants.map((at) => [at, 0]));
  return series.map(({ job, purpose, steps }) => {
    const below: [number, number][] = [];
    const above: [number, number][] = [];
    for (const at of instants) {
      const base = total.get(at)!;
      const top = base + valueAt(steps, at);
      below.push([at, base]);
      above.push([at, top]);
      total.set(at, top);
    }
    return { job, purpose, below, above };
  });
}

const stackedLoads = new WeakMap<Load, Layer[]>();

function layersOf(load: Load, start: number): Layer[] {
  let layers = stackedLoads.get(load);
  if (!layers) {
    layers = stacked(load, start);
    stackedLoads.set(load, layers);
  }
  return layers;
}

export function roofTop(load: Load): number {
  const capacity = Math.max(0, ...(load.capacity ?? []).map(([, value]) => value ?? 0));
  return capacity || load.peak || 1;
}

/** Paint one load under its roof: the house, the roof, and what waits above it. */
export function paintRoof(context: CanvasRenderingContext2D, paint: RoofPaint) {
  const { load, nightStart, scale, palette: p, height, walls } = paint;
  const top = roofTop(load);
  const floor = height - 0.5;
  const y = (value: number) => Math.max(1, floor - (value / top) * height * ROOF_LEVEL);
  paintGrid(context, scale, paint.zone, p, height);
  const area = (below: [number, number][], above: [number, number][]) => {
    context.beginPath();
    const last = above.length - 1;
    for (let i = 0; i <= last; i++) {
      const until = i < last ? above[i + 1]![0] : scale.to;
      const [from, to] = [xOf(scale, above[i]![0]), xOf(scale, until)];
      if (i === 0) context.moveTo(from, y(below[0]![1]));
      context.lineTo(from, y(above[i]![1]));
      context.lineTo(to, y(above[i]![1]));
    }
    for (let i = last; i >= 0; i--) {
      const until = i < last ? above[i + 1]![0] : scale.to;
      context.lineTo(xOf(scale, until), y(below[i]![1]));
      context.lineTo(xOf(scale, above[i]![0]), y(below[i]![1]));
    }
    context.closePath();
  };
  layersOf(load, nightStart).forEach((layer, index) => {
    if (!layer.above.length) return;
    const marked = layer.job === paint.chosen || layer.job === paint.hovered;
    const dimmed = (paint.chosen ?? paint.hovered) !== null && !marked;
    const copied = layer.purpose === "copy";
    context.fillStyle = copied ? p.plum : hueOf(paint.shapes.get(layer.job) ?? "incremental", p);
    context.globalAlpha = dimmed ? 0.38 : index % 2 ? 0.78 : 1;
    area(layer.below, layer.above);
    context.fill();
    context.globalAlpha = 1;
    context.strokeStyle = p.ground;
    context.lineWidth = 0.75;
    context.stroke();
    if (walls && layer.purpose === "read" && paint.bound.has(layer.job)) {
      // What a job moves outside the walls is over, whatever room there is.
      context.save();
      context.beginPath();
      const [open, close] = [xOf(scale, walls.from), xOf(scale, walls.to)];
      context.rect(-10, 0, open + 10, height);
      context.rect(close, 0, scale.width - close + 10, height);
      context.clip();
      area(layer.below, layer.above);
      context.fillStyle = hatch(context, p.barn, p.surface);
      context.fill();
      context.restore();
    }
  });
  context.strokeStyle = p.ruleStrong;
  context.lineWidth = 1;
  context.beginPath();
  context.moveTo(0, floor);
  context.lineTo(scale.width, floor);
  context.stroke();
  paintRoofline(context, paint, y, floor);
  paintWaiting(context, paint, y);
  if (paint.pointer !== null) paintPointer(context, paint.pointer, height, p);
}

/** Flat at the capacity across the open window, two-sloped outside it. */
function paintRoofline(
  context: CanvasRenderingContext2D,
  paint: RoofPaint,
  y: (value: number) => number,
  floor: number,
) {
  const { load, nightStart, scale, palette: p, walls } = paint;
  if (!load.capacity) return;
  const capacity = absolute(load.capacity, nightStart);
  const [from, to] = walls ? [walls.from, walls.to] : [scale.from, scale.to];
  const steep = 12;
  const shallow = 10;
  context.strokeStyle = p.ink;
  context.lineWidth = 1.75;
  context.lineJoin = "round";
  context.beginPath();
  const left = xOf(scale, from);
  const right = xOf(scale, to);
  const height = (part: number, at: number) => y(valueAt(capacity, at) * part);
  if (walls) {
    context.moveTo(left - steep - shallow, floor);
    context.lineTo(left - shallow, height(0.62, from));
  }
  context.lineTo(left, height(1, from));
  for (const [at, value] of capacity) {
    if (at <= from || at >= to) continue;
    context.lineTo(xOf(scale, at), y(valueAt(capacity, at - 1)));
    context.lineTo(xOf(scale, at), y(value));
  }
  context.lineTo(right, height(1, to - 1));
  if (walls) {
    context.lineTo(right + shallow, height(0.62, to - 1));
    context.lineTo(right + steep + shallow, floor);
  }
  context.stroke();
}

/** What waits: for slots as so many slots above the roof, else as a curve of its own height. */
function paintWaiting(
  context: CanvasRenderingContext2D,
  paint: RoofPaint,
  y: (value: number) => number,
) {
  const { load, nightStart, scale, palette: p } = paint;
  const waiting = absolute(load.waiting, nightStart);
  const most = Math.max(0, ...waiting.map(([, value]) => value));
  if (!most) return;
  const roof = y(roofTop(load));
  const heightOf = (value: number) => roof - (value / most) * (roof - 3);
  // Red is kept for a night that is over; on others waiting is no more than a fact.
  const colour = paint.over ? p.barn : p.ink2;
  context.strokeStyle = colour;
  context.lineWidth = 1.25;
  context.beginPath();
  let drawing = false;
  waiting.forEach(([at, value], i) => {
    const until = i + 1 < waiting.length ? waiting[i + 1]![0] : scale.to;
    const [from, to] = [xOf(scale, at), xOf(scale, until)];
    if (value > 0) {
      if (!drawing) context.moveTo(from, roof);
      context.lineTo(from, heightOf(value));
      context.lineTo(to, heightOf(value));
      drawing = true;
    } else if (drawing) {
      context.lineTo(from, roof);
      drawing = false;
    }
  });
  context.stroke();
  context.globalAlpha = 0.12;
  context.fillStyle = colour;
  context.fill();
  context.globalAlpha = 1;
}

// --- lanes of places ----------------------------------------------------------------------------
