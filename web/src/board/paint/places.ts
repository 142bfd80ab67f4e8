/** Lanes of places: who is busy where. */

import { type Span, type TimeScale, xOf } from "../geometry";
import {
  firstAfter,
  FOLDED_HEIGHT,
  type Piece,
  type Place,
  PLACE_PADDING,
  ROW_HEIGHT,
  visiblePlaces,
} from "../rows";
import { paintGrid } from "./axis";
import { type Palette } from "./palette";

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
