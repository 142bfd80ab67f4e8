/** Bars of runs, their marks, copies and ghosts. */

import { MINUTE } from "../../time/time";
import {
  type Bar,
  type Lane,
  LANE_HEIGHT,
  NARROWEST_BAR,
  type Shape,
  type TimeScale,
  xOf,
} from "../geometry";
import { hatch, clipped } from "./canvas";
import { type Palette, hueOf } from "./palette";

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

export function paintBar(
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

export function paintCopies(
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

export function paintGhost(
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
