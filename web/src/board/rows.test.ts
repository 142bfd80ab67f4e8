import { describe, expect, it } from "vitest";
import {
  firstAfter,
  heightOf,
  packed,
  type Piece,
  pieceAt,
  placesOf,
  SAME_MS,
  sortedPlaces,
  stackedPlaces,
  visiblePlaces,
} from "./rows";

const piece = (from: number, to: number, more: Partial<Piece> = {}): Piece => ({
  job: "j",
  machine: null,
  kind: "full",
  from,
  moved: to,
  to,
  mark: "",
  ...more,
});

describe("packed", () => {
  it("needs as many rows as go on at once", () => {
    const rows = packed([piece(0, 1000), piece(200, 500), piece(500, 800), piece(1000, 1200)]);
    expect(rows.map((row) => row.map((p) => p.from))).toEqual([
      [0, 1000],
      [200, 500],
    ]);
  });
  it("keeps what takes no time apart", () => {
    expect(packed([piece(3, 3), piece(3, 3)])).toHaveLength(2);
  });
  it("does not take rounding for an overlap", () => {
    expect(packed([piece(0, 1001), piece(1000, 1400), piece(1400, 2000)])).toHaveLength(1);
  });
  it("never lets two of a row overlap", () => {
    const pieces = Array.from({ length: 300 }, (_, i) => piece(i * 30, i * 30 + ((i * 370) % 500)));
    for (const row of packed(pieces))
      row.slice(1).forEach((p, i) => expect(p.from).toBeGreaterThanOrEqual(row[i]!.to - SAME_MS));
  });
});

const answer = {
  start: "2026-11-02T12:00:00Z",
  end: "2026-11-03T12:00:00Z",
  cut: false,
  jobs: ["a", "b"],
  machines: ["m"],
  lanes: [
    { id: "x", label: "X", rows: [[0, 0, 1, 0, 60_000, 90_000, 0]] },
    {
      id: "y",
      label: "Y",
      rows: [
        [1, -1, 4, 30_000, 40_000, 50_000, 1],
        [0, 0, 0, 35_000, 36_000, 37_000, 2],
      ],
    },
  ],
};

describe("placesOf", () => {
  const places = placesOf(answer);
  it("reads the short rows", () => {
    const [x, y] = places;
    expect(x!.rows[0]![0]).toMatchObject({ job: "a", machine: "m", kind: "incremental", mark: "" });
    expect(y!.rows[0]![0]).toMatchObject({ job: "b", machine: null, kind: "copy", mark: "past" });
    expect(x!.lastEnd - Date.parse(answer.start)).toBe(90_000);
  });
  it("sorts by trouble, end and size", () => {
    expect(sortedPlaces(places, "trouble").map((p) => p.id)).toEqual(["y", "x"]);
    expect(sortedPlaces(places, "end").map((p) => p.id)).toEqual(["x", "y"]);
    expect(sortedPlaces(places, "plan").map((p) => p.id)).toEqual(["x", "y"]);
  });
  it("stacks them, folded ones lower", () => {
    const open = stackedPlaces(places, new Set());
    expect(open.tops).toEqual([0, heightOf(places[0]!, false)]);
    expect(visiblePlaces(open.tops, open.height, 0, 10)).toEqual([0, 1]);
    expect(visiblePlaces([], 0, 0, 10)).toEqual([0, 0]);
    expect(
      heightOf({ ...places[1]!, rows: Array.from({ length: 9 }, () => []) }, false),
    ).toBeGreaterThan(heightOf(places[1]!, true));
  });
  it("finds what is under the pointer", () => {
    const start = Date.parse(answer.start);
    const scale = { from: start, to: start + 100_000, width: 100 };
    const { tops } = stackedPlaces(places, new Set());
    expect(pieceAt(places, tops, new Set(), scale, 50, 6)?.job).toBe("a");
    expect(pieceAt(places, tops, new Set(), scale, 98, 6)).toBeNull();
    expect(pieceAt(places, tops, new Set(["y"]), scale, 36, tops[1]! + 4)).not.toBeNull();
  });
});

describe("firstAfter", () => {
  it("finds the first that is not over yet", () => {
    const row = [piece(0, 5), piece(6, 8), piece(9, 20)];
    expect([0, 5, 6, 8.5, 30].map((at) => firstAfter(row, at))).toEqual([0, 0, 1, 2, 3]);
  });
});
