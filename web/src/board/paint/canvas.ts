/** A canvas as sharp as the screen, its hatches, and what of a span is in view. */

import { type TimeScale, xOf } from "../geometry";
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
export function hatch(context: CanvasRenderingContext2D, colour: string, ground: string) {
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

export function clipped(scale: TimeScale, from: number, to: number): [number, number] {
  return [Math.max(-2, xOf(scale, from)), Math.min(scale.width + 2, xOf(scale, to))];
}
