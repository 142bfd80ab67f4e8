/** The axis of time and the grid under it. */

import { clock, dayClock, hourTicks, MINUTE } from "../../time/time";
import { AXIS_HEIGHT, type TimeScale, xOf } from "../geometry";
import { type Palette } from "./palette";

function hourStep(scale: TimeScale): number {
  const pixels = scale.width / ((scale.to - scale.from) / (60 * MINUTE));
  return pixels > 90 ? 1 : pixels > 42 ? 2 : pixels > 22 ? 3 : pixels > 9 ? 6 : 24;
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

export function paintGrid(
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

export function paintPointer(
  context: CanvasRenderingContext2D,
  x: number,
  height: number,
  p: Palette,
) {
  context.strokeStyle = p.ink;
  context.globalAlpha = 0.45;
  context.lineWidth = 1;
  context.beginPath();
  context.moveTo(Math.round(x) + 0.5, 0);
  context.lineTo(Math.round(x) + 0.5, height);
  context.stroke();
  context.globalAlpha = 1;
}
