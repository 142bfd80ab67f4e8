/** All lanes of a night. */

import { type Bar, type Lane, LANE_HEIGHT, type TimeScale, xOf } from "../geometry";
import { paintGrid, paintPointer } from "./axis";
import { paintBar, paintCopies, paintGhost } from "./bars";
import { type Palette } from "./palette";

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
