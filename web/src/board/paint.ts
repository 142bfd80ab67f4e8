/** Painting lanes and rooflines on a canvas. */

import type { Load } from "../api/client";
import { clock, dayClock, hourTicks, MINUTE } from "../time/time";
import {
  absolute,
  AXIS_HEIGHT,
  type Bar,
  type Lane,
  LANE_HEIGHT,
  NARROWEST_BAR,
  type Shape,
  type Span,
  type TimeScale,
  valueAt,
  xOf,
} from "./geometry";
import {
  firstAfter,
  FOLDED_HEIGHT,
  type Piece,
  type Place,
  PLACE_PADDING,
  ROW_HEIGHT,
  visiblePlaces,
} from "./rows";

export interface Palette {
  ground: string;
  surface: string;
  ink: string;
  ink2: string;
  rule: string;
  ruleStrong: string;
  closed: string;
  barn: string;
  hay: string;
  slate: string;
  sage: string;
  ochre: string;
  plum: string;
}

export function paletteOf(element: Element): Palette {
  const style = getComputedStyle(element);
  const one = (name: string) => style.getPropertyValue(name).trim();
  return {
    ground: one("--ground"),
    surface: one("--surface"),
    ink: one("--ink"),
    ink2: one("--ink-2"),
    rule: one("--rule"),
    ruleStrong: one("--rule-strong"),
    closed: one("--closed"),
    barn: one("--barn"),
    hay: one("--hay"),
    slate: one("--slate"),
    sage: one("--sage"),
    ochre: one("--ochre"),
    plum: one("--plum"),
  };
}

export const hueOf = (shape: Shape, palette: Palette): string =>
  ({
    full: palette.slate,
    synthetic: palette.slate,
    incremental: palette.sage,
    differential: palette.ochre,
  })[shape];

/** Make a canvas as sharp as the screen and hand out its context, in CSS pixels. */
export function prepared(
  canvas: HTMLCanvasElement,
  width: number,
  height: number,
): CanvasRenderingContext2D | null {
  const ratio = window.devicePixelRatio || 1;
  if (canvas.width !== Math.round(width * ratio)) canvas.width = Math.round(width * ratio);
  if (canvas.height !== Math.round(height * ratio)) canvas.height = Math.round(height * ratio);
  const context = canvas.getContext("2d");
  context?.setTransform(ratio, 0, 0, ratio, 0, 0);
  context?.clearRect(0, 0, width, height);
  return context;
}

const hatches = new Map<string, CanvasPattern | null>();

/** Slanting lines: what lies past the window. */
function hatch(context: CanvasRenderingContext2D, colour: string, ground: string) {
  const key = colour + ground;
  if (!hatches.has(key)) {
    const tile = document.createElement("canvas");
    tile.width = tile.height = 6;
    const draw = tile.getContext("2d");
    if (draw) {
      draw.fillStyle = ground;
      draw.fillRect(0, 0, 6, 6);
      draw.strokeStyle = colour;
      draw.lineWidth = 2;
      for (const x of [-6, 0, 6]) {
        draw.beginPath();
        draw.moveTo(x, 6);
        draw.lineTo(x + 6, 0);
        draw.stroke();
      }
    }
    hatches.set(key, context.createPattern(tile, "repeat"));
  }
  return hatches.get(key) ?? colour;
}

function hourStep(scale: TimeScale): number {
  const pixels = scale.width / ((scale.to - scale.from) / (60 * MINUTE));
  return pixels > 90 ? 1 : pixels > 42 ? 2 : pixels > 22 ? 3 : pixels > 9 ? 6 : 24;
}

function clipped(scale: TimeScale, from: number, to: number): [number, number] {
  return [Math.max(-2, xOf(scale, from)), Math.min(scale.width + 2, xOf(scale, to))];
}

export function paintAxis(
  context: CanvasRenderingContext2D,
  scale: TimeScale,
  zone: string,
  palette: Palette,
  marks: readonly number[],
) {
  context.font = '12px "Archivo Variable", sans-serif';
  context.textBaseline = "middle";
  for (const tick of hourTicks(scale.from, scale.to, hourStep(scale), zone)) {
    const x = Math.round(xOf(scale, tick)) + 0.5;
    context.strokeStyle = palette.rule;
    context.beginPath();
    context.moveTo(x, 4);
    context.lineTo(x, AXIS_HEIGHT);
    context.stroke();
    context.fillStyle = palette.ink2;
    const label = hourStep(scale) === 24 ? dayClock(tick, zone).split(" ")[0]! : clock(tick, zone);
    if (x < scale.width - 34) context.fillText(label, x + 5, AXIS_HEIGHT / 2);
  }
  context.fillStyle = palette.hay;
  for (const mark of marks) {
    if (mark <= scale.from || mark >= scale.to) continue;
    const x = xOf(scale, mark);
    context.beginPath();
    context.moveTo(x - 4, AXIS_HEIGHT - 7);
    context.lineTo(x + 4, AXIS_HEIGHT - 7);
    context.lineTo(x, AXIS_HEIGHT - 1);
    context.fill();
  }
}

function paintGrid(
  context: CanvasRenderingContext2D,
  scale: TimeScale,
  zone: string,
  palette: Palette,
  height: number,
) {
  context.strokeStyle = palette.rule;
  context.lineWidth = 1;
  context.globalAlpha = 0.6;
  for (const tick of hourTicks(scale.from, scale.to, hourStep(scale), zone)) {
    const x = Math.round(xOf(scale, tick)) + 0.5;
    context.beginPath();
    context.moveTo(x, 0);
    context.lineTo(x, height);
    context.stroke();
  }
  context.globalAlpha = 1;
}

/** Vertical extent of a bar inside its lane. */
export function extentOf(shape: Shape): { top: number; height: number } {
  const tall = shape !== "incremental";
  return tall ? { top: 4, height: 16 } : { top: 12, height: 8 };
}

function paintBody(
  context: CanvasRenderingContext2D,
  bar: Bar,
  left: number,
  right: number,
  y: number,
  colour: string | CanvasPattern,
  edge: string,
) {
  const { top, height } = extentOf(bar.shape);
  const width = Math.max(NARROWEST_BAR, right - left);
  context.fillStyle = colour;
  if (bar.shape === "differential") {
    context.beginPath();
    context.moveTo(left, y + top + height);
    context.lineTo(left, y + top + height * 0.62);
    context.lineTo(left + width, y + top);
    context.lineTo(left + width, y + top + height);
    context.fill();
  } else if (bar.shape === "synthetic") {
    context.strokeStyle = edge;
    context.lineWidth = 2;
    context.strokeRect(left + 1, y + top + 1, Math.max(2, width - 2), height - 2);
    context.fillRect(left, y + top + height - 6, width, 6);
  } else {
    context.fillRect(left, y + top, width, height);
  }
}

function paintMark(context: CanvasRenderingContext2D, bar: Bar, x: number, y: number, p: Palette) {
  const middle = y + LANE_HEIGHT / 2;
  context.lineWidth = 1.75;
  context.fillStyle = p.surface;
  context.strokeStyle = bar.mark === "skipped" ? p.hay : p.barn;
  context.beginPath();
  if (bar.mark === "skipped") context.arc(x, middle, 5, 0, 2 * Math.PI);
  else {
    context.moveTo(x, middle - 6.5);
    context.lineTo(x + 5.5, middle);
    context.lineTo(x, middle + 6.5);
    context.lineTo(x - 5.5, middle);
    context.closePath();
  }
  context.fill();
  context.stroke();
}

function paintBar(
  context: CanvasRenderingContext2D,
  bar: Bar,
  scale: TimeScale,
  y: number,
  p: Palette,
) {
  const hue = hueOf(bar.shape, p);
  const middle = Math.round(y + LANE_HEIGHT / 2) + 0.5;
  const due = xOf(scale, bar.due);
  if (bar.start !== null && bar.end !== null) {
    const bodyEnd = bar.moved ?? bar.end;
    if (bar.start - bar.due > MINUTE) {
      const [from, to] = clipped(scale, bar.due, bar.start);
      context.strokeStyle = p.ink2;
      context.lineWidth = 1;
      context.beginPath();
      context.moveTo(Math.round(due) + 0.5, middle - 4);
      context.lineTo(Math.round(due) + 0.5, middle + 4);
      context.moveTo(from, middle);
      context.lineTo(to, middle);
      context.stroke();
    }
    const [left, right] = clipped(scale, bar.start, bodyEnd);
    const [tailLeft, tailRight] = clipped(scale, bodyEnd, bar.end);
    const wall = bar.windowEnd === null ? Infinity : xOf(scale, bar.windowEnd);
    if (right > left - 4 && left < scale.width) paintBody(context, bar, left, right, y, hue, hue);
    const { top, height } = extentOf(bar.shape);
    if (tailRight - tailLeft > 1) {
      context.fillStyle = hue;
      context.fillRect(tailLeft, y + top + height - 3, tailRight - tailLeft, 3);
    }
    const past = Math.max(wall, left);
    const end = Math.max(right, tailRight);
    if (bar.run.over_s > 0 && end > past) {
      // Past the window the body is hatched, and so is the tail of a verify, as low as it is.
      const pattern = hatch(context, p.barn, p.surface);
      context.strokeStyle = p.barn;
      context.lineWidth = 1;
      if (right > past) {
        paintBody(context, bar, past, right, y, pattern, p.barn);
        context.strokeRect(past + 0.5, y + top + 0.5, right - past - 1, height - 1);
      }
      if (tailRight > Math.max(past, tailLeft)) {
        const from = Math.max(past, tailLeft);
        context.fillStyle = pattern;
        context.fillRect(from, y + top + height - 8, tailRight - from, 8);
        context.strokeRect(from + 0.5, y + top + height - 7.5, tailRight - from - 1, 7);
      }
    }
  }
  if (bar.mark) paintMark(context, bar, due, y, p);
}

function paintCopies(
  context: CanvasRenderingContext2D,
  lane: Lane,
  scale: TimeScale,
  y: number,
  p: Palette,
) {
  for (const copy of lane.copies) {
    const [left, right] = clipped(scale, copy.from, copy.to);
    if (right < 0 || left > scale.width) continue;
    const width = Math.max(NARROWEST_BAR, right - left);
    context.fillStyle = p.plum;
    context.globalAlpha = 0.35;
    context.fillRect(left, y + 13, width, 7);
    context.globalAlpha = 1;
    context.strokeStyle = p.plum;
    context.lineWidth = 1.25;
    context.setLineDash([4, 2.5]);
    context.strokeRect(left + 0.5, y + 13.5, Math.max(1, width - 1), 6);
    context.setLineDash([]);
  }
}

export interface LanePaint {
  lanes: readonly Lane[];
  scale: TimeScale;
  zone: string;
  palette: Palette;
  height: number;
  /** pixels scrolled away above */
  scrolled: number;
  chosen: string | null;
  hovered: string | null;
  ghost: { bar: Bar; minutes: number } | null;
  pointer: number | null;
}

/** Paint the lanes that can be seen. */
export function paintLanes(context: CanvasRenderingContext2D, paint: LanePaint) {
  const { lanes, scale, palette: p, height, scrolled } = paint;
  const first = Math.max(0, Math.floor(scrolled / LANE_HEIGHT));
  const last = Math.min(lanes.length, Math.ceil((scrolled + height) / LANE_HEIGHT));
  context.fillStyle = p.surface;
  context.fillRect(0, 0, scale.width, (last - first) * LANE_HEIGHT);
  for (let i = first; i < last; i++) {
    const lane = lanes[i]!;
    const y = i * LANE_HEIGHT - scrolled;
    if (lane.window) {
      context.fillStyle = p.closed;
      const open = xOf(scale, lane.window.from);
      const close = xOf(scale, lane.window.to);
      if (open > 0) context.fillRect(0, y, open, LANE_HEIGHT);
      if (close < scale.width) context.fillRect(close, y, scale.width - close, LANE_HEIGHT);
    }
    if (lane.job.id === paint.chosen || lane.job.id === paint.hovered) {
      context.fillStyle = p.ink;
      context.globalAlpha = lane.job.id === paint.chosen ? 0.07 : 0.035;
      context.fillRect(0, y, scale.width, LANE_HEIGHT);
      context.globalAlpha = 1;
    }
  }
  paintGrid(context, scale, paint.zone, p, (last - first) * LANE_HEIGHT);
  for (let i = first; i < last; i++) {
    const lane = lanes[i]!;
    const y = i * LANE_HEIGHT - scrolled;
    context.strokeStyle = p.rule;
    context.lineWidth = 1;
    context.beginPath();
    context.moveTo(0, y + LANE_HEIGHT - 0.5);
    context.lineTo(scale.width, y + LANE_HEIGHT - 0.5);
    context.stroke();
    if (lane.window) {
      context.strokeStyle = p.ink;
      context.lineWidth = 1.25;
      for (const wall of [lane.window.from, lane.window.to]) {
        const x = Math.round(xOf(scale, wall)) + 0.5;
        context.beginPath();
        context.moveTo(x, y);
        context.lineTo(x, y + LANE_HEIGHT);
        context.stroke();
      }
    }
    paintCopies(context, lane, scale, y, p);
    for (const bar of lane.bars) paintBar(context, bar, scale, y, p);
    if (paint.ghost?.bar.run.job === lane.job.id) paintGhost(context, paint.ghost, scale, y, p);
  }
  if (paint.pointer !== null) paintPointer(context, paint.pointer, height, p);
}

function paintGhost(
  context: CanvasRenderingContext2D,
  ghost: { bar: Bar; minutes: number },
  scale: TimeScale,
  y: number,
  p: Palette,
) {
  const { bar, minutes } = ghost;
  const by = minutes * MINUTE;
  const x = Math.round(xOf(scale, bar.due + by)) + 0.5;
  context.strokeStyle = p.ink;
  context.lineWidth = 2;
  context.beginPath();
  context.moveTo(x, y + 1);
  context.lineTo(x, y + LANE_HEIGHT - 1);
  context.moveTo(x, y + 2);
  context.lineTo(x + 6, y + 2);
  context.stroke();
}

function paintPointer(context: CanvasRenderingContext2D, x: number, height: number, p: Palette) {
  context.strokeStyle = p.ink;
  context.globalAlpha = 0.45;
  context.lineWidth = 1;
  context.beginPath();
  context.moveTo(Math.round(x) + 0.5, 0);
  context.lineTo(Math.round(x) + 0.5, height);
  context.stroke();
  context.globalAlpha = 1;
}

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

export interface PlacePaint {
  places: readonly Place[];
  tops: readonly number[];
  folded: ReadonlySet<string>;
  scale: TimeScale;
  zone: string;
  palette: Palette;
  height: number;
  scrolled: number;
  /** From when to when any window is open; what lies outside is shaded. */
  walls: Span | null;
}

/** Paint the places that can be seen, and of each row only what is in the span. */
export function paintPlaces(context: CanvasRenderingContext2D, paint: PlacePaint) {
  const { places, tops, folded, scale, palette: p, height, scrolled } = paint;
  context.fillStyle = p.surface;
  context.fillRect(0, 0, scale.width, height);
  if (paint.walls) {
    context.fillStyle = p.closed;
    const opens = Math.max(0, xOf(scale, paint.walls.from));
    const closes = Math.min(scale.width, xOf(scale, paint.walls.to));
    context.fillRect(0, 0, opens, height);
    context.fillRect(closes, 0, scale.width - closes, height);
  }
  paintGrid(context, scale, paint.zone, p, height);
  const [first, last] = visiblePlaces(tops, places.length, scrolled, height);
  for (let i = first; i < last; i++) {
    const place = places[i]!;
    const y = tops[i]! - scrolled;
    context.fillStyle = p.rule;
    context.fillRect(0, Math.round(y), scale.width, 1);
    const low = folded.has(place.id);
    if (low) context.globalAlpha = 0.55;
    for (const [r, row] of place.rows.entries()) {
      const top = low ? y + 6 : y + PLACE_PADDING / 2 + r * ROW_HEIGHT;
      paintRow(context, row, scale, top, low ? FOLDED_HEIGHT - 12 : ROW_HEIGHT - 1, p);
    }
    context.globalAlpha = 1;
  }
}

/** The pieces of a row, those of one colour at once: it is the change of colour that takes time. */
function paintRow(
  context: CanvasRenderingContext2D,
  row: readonly Piece[],
  scale: TimeScale,
  top: number,
  height: number,
  p: Palette,
) {
  const hues = {
    full: p.slate,
    synthetic: p.slate,
    incremental: p.sage,
    differential: p.ochre,
    copy: p.plum,
    rewrite: p.ink2,
  };
  const shapes = new Map<string, number[]>();
  const insides: number[] = [];
  for (let i = firstAfter(row, scale.from); i < row.length; i++) {
    const piece = row[i]!;
    if (piece.from > scale.to) break;
    const left = Math.max(-2, xOf(scale, piece.from));
    const width = Math.max(1.5, Math.min(scale.width + 2, xOf(scale, piece.to)) - left);
    const low = piece.kind === "incremental" || piece.kind === "copy" || piece.kind === "rewrite";
    const hue =
      piece.mark === "undone" || piece.mark === "past"
        ? p.barn
        : piece.mark === "skipped"
          ? p.hay
          : hues[piece.kind];
    const box = [
      left,
      low ? top + Math.ceil(height / 2) : top,
      width,
      low ? Math.floor(height / 2) : height,
    ];
    const boxes = shapes.get(hue);
    if (boxes) boxes.push(...box);
    else shapes.set(hue, box);
    if (piece.kind === "synthetic" && width > 4)
      insides.push(left + 1, top + 1, width - 2, height - 3);
  }
  for (const [hue, boxes] of [...shapes, [p.surface, insides] as const]) {
    context.fillStyle = hue;
    for (let k = 0; k < boxes.length; k += 4)
      context.fillRect(boxes[k]!, boxes[k + 1]!, boxes[k + 2]!, boxes[k + 3]!);
  }
}
