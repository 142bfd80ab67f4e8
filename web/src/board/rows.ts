/** Lanes of places rather than of jobs: what stands where. Pure; knows no canvas. */

import type { Lanes as LanesAnswer } from "../api/client";
import { millis } from "../time/time";
import type { Sorting, TimeScale } from "./geometry";
import { xOf } from "./geometry";

export const ROW_HEIGHT = 7;
export const PLACE_PADDING = 8;
export const FOLDED_HEIGHT = 24;

export const KINDS = [
  "full",
  "incremental",
  "differential",
  "synthetic",
  "copy",
  "rewrite",
] as const;
export const MARKS = ["", "past", "undone", "skipped"] as const;

/** Something that goes on for a while at a place; instants in milliseconds. */
export interface Piece {
  job: string;
  machine: string | null;
  kind: (typeof KINDS)[number];
  from: number;
  moved: number;
  to: number;
  mark: (typeof MARKS)[number];
}

export interface Place {
  id: string;
  label: string;
  /** Pieces that do not overlap, row by row, each row in order of time. */
  rows: Piece[][];
  pieces: number;
  trouble: number;
  lastEnd: number;
  busy: number;
}

/** Instants this close are the same: they were rounded to milliseconds. */
export const SAME_MS = 2;

/** Deal pieces that follow by their starts into as few rows as hold them without an overlap. */
export function packed(pieces: readonly Piece[]): Piece[][] {
  const rows: Piece[][] = [];
  const free: number[] = [];
  for (const piece of pieces) {
    let row = free.findIndex((at) => at <= piece.from + SAME_MS);
    if (row < 0) row = free.length;
    (rows[row] ??= []).push(piece);
    free[row] = Math.max(piece.to, piece.from + SAME_MS + 1);
  }
  return rows;
}

const TROUBLE = { "": 0, skipped: 1, past: 1000, undone: 500 };

export function placesOf(answer: LanesAnswer): Place[] {
  const start = millis(answer.start);
  return answer.lanes.map((lane) => {
    const pieces = lane.rows.map((row): Piece => {
      const [job = 0, machine = -1, kind = 0, from = 0, moved = 0, to = 0, mark = 0] = row;
      return {
        job: answer.jobs[job] ?? "",
        machine: answer.machines[machine] ?? null,
        kind: KINDS[kind] ?? "full",
        from: start + from,
        moved: start + moved,
        to: start + to,
        mark: MARKS[mark] ?? "",
      };
    });
    return {
      id: lane.id,
      label: lane.label,
      rows: packed(pieces),
      pieces: pieces.length,
      trouble: pieces.reduce((sum, piece) => sum + TROUBLE[piece.mark], 0),
      lastEnd: pieces.reduce((last, piece) => Math.max(last, piece.to), 0),
      busy: pieces.reduce((sum, piece) => sum + piece.to - piece.from, 0),
    };
  });
}

export function sortedPlaces(places: readonly Place[], sorting: Sorting): Place[] {
  if (sorting === "plan") return [...places];
  const by = {
    trouble: (p: Place) => p.trouble,
    end: (p: Place) => p.lastEnd,
    size: (p: Place) => p.busy,
  }[sorting];
  return [...places].sort((a, b) => by(b) - by(a));
}

/** Where each place stands: the tops, and the height of all. */
export function stackedPlaces(
  places: readonly Place[],
  folded: ReadonlySet<string>,
): { tops: number[]; height: number } {
  const tops: number[] = [];
  let height = 0;
  for (const place of places) {
    tops.push(height);
    height += heightOf(place, folded.has(place.id));
  }
  return { tops, height };
}

export const heightOf = (place: Place, folded: boolean): number =>
  folded ? FOLDED_HEIGHT : Math.max(FOLDED_HEIGHT, place.rows.length * ROW_HEIGHT + PLACE_PADDING);

/** The first piece of a row that ends at or after an instant. */
export function firstAfter(row: readonly Piece[], at: number): number {
  let low = 0;
  let high = row.length;
  while (low < high) {
    const middle = (low + high) >> 1;
    if (row[middle]!.to < at) low = middle + 1;
    else high = middle;
  }
  return low;
}

/** The places that can be seen: [first, last). */
export function visiblePlaces(
  tops: readonly number[],
  total: number,
  scrolled: number,
  height: number,
): [number, number] {
  let first = 0;
  while (first + 1 < tops.length && tops[first + 1]! <= scrolled) first++;
  let last = first;
  while (last < tops.length && tops[last]! < scrolled + height) last++;
  return total ? [first, last] : [0, 0];
}

const CATCH_PX = 3;

/** What is under a point of the lanes. */
export function pieceAt(
  places: readonly Place[],
  tops: readonly number[],
  folded: ReadonlySet<string>,
  scale: TimeScale,
  x: number,
  y: number,
): Piece | null {
  const index = tops.findLastIndex((top) => top <= y);
  const place = places[index];
  if (!place) return null;
  const within = Math.floor((y - tops[index]! - PLACE_PADDING / 2) / ROW_HEIGHT);
  const rows = folded.has(place.id) ? place.rows : [place.rows[within] ?? []];
  for (const row of rows) {
    for (
      let i = Math.max(0, firstAfter(row, scale.from) - 1);
      i < row.length && row[i]!.from <= scale.to;
      i++
    ) {
      const piece = row[i]!;
      if (xOf(scale, piece.from) - CATCH_PX <= x && x <= xOf(scale, piece.to) + CATCH_PX)
        return piece;
    }
  }
  return null;
}
