import { type KeyboardEvent, type PointerEvent, useId, useRef, useState } from "react";
import { Button } from "../ui/Button";
import { Field } from "../ui/Field";
import { HoursMistyped, QUARTERS, typedHours, WEEK, WEEKDAYS } from "./hours";

const NOON = 48;
const NAMES = ["Mon", "Tue", "Wed", "Thu", "Fri", "Sat", "Sun"];
const two = (n: number) => String(n).padStart(2, "0");
const clockOf = (column: number) => {
  const quarter = (column + NOON) % QUARTERS;
  return `${two(Math.floor(quarter / 4))}:${two((quarter % 4) * 15)}`;
};
/** "Mon 21:00"; past midnight the day that it is: "Tue 07:00, Mon night" */
const placeInWords = (row: number, column: number) =>
  column < QUARTERS - NOON
    ? `${NAMES[row]} ${clockOf(column)}`
    : `${NAMES[(row + 1) % 7]} ${clockOf(column)}, ${NAMES[row]} night`;
/** The quarter of the week that a cell stands for: a row is a night, from noon to noon. */
const cellAt = (row: number, column: number) => (row * QUARTERS + NOON + column) % WEEK;

/** The cells between two corners. */
interface Stretch {
  row: number;
  column: number;
  toRow: number;
  toColumn: number;
}
const within = (stretch: Stretch | null, row: number, column: number) =>
  stretch !== null &&
  row >= Math.min(stretch.row, stretch.toRow) &&
  row <= Math.max(stretch.row, stretch.toRow) &&
  column >= Math.min(stretch.column, stretch.toColumn) &&
  column <= Math.max(stretch.column, stretch.toColumn);

/**
 * Hours of a week, painted: a row for each night from noon to noon, a column for each quarter hour.
 * The pointer paints a stretch; by keyboard, arrows walk, space paints, Shift+arrow paints on.
 */
export function WeekPainter<T>({
  label,
  cells,
  nothing,
  brush,
  inWords,
  onPaint,
}: {
  label: string;
  cells: readonly T[];
  nothing: T;
  /** What is painted; on what has this value already, it is deleted. */
  brush: T;
  inWords: (value: T) => string;
  onPaint: (cells: T[]) => void;
}) {
  const id = useId();
  const grid = useRef<HTMLDivElement>(null);
  const [cursor, setCursor] = useState({ row: 0, column: 32 });
  const [drag, setDrag] = useState<(Stretch & { value: T }) | null>(null);
  const here = cells[cellAt(cursor.row, cursor.column)] as T;

  const placeOf = (event: PointerEvent) => {
    const box = grid.current?.getBoundingClientRect();
    if (!box) return null;
    const row = Math.floor(((event.clientY - box.top) / box.height) * 7);
    const column = Math.floor(((event.clientX - box.left) / box.width) * QUARTERS);
    return {
      row: Math.max(0, Math.min(6, row)),
      column: Math.max(0, Math.min(QUARTERS - 1, column)),
    };
  };
  const put = (places: { row: number; column: number }[], value: T) => {
    const now = [...cells];
    for (const { row, column } of places) now[cellAt(row, column)] = value;
    onPaint(now);
  };
  const onKey = (event: KeyboardEvent) => {
    const step = { ArrowLeft: [0, -1], ArrowRight: [0, 1], ArrowUp: [-1, 0], ArrowDown: [1, 0] }[
      event.key
    ];
    if (event.key === " " || event.key === "Enter") {
      event.preventDefault();
      put([cursor], here === brush ? nothing : brush);
    } else if (step) {
      event.preventDefault();
      const to = {
        row: Math.max(0, Math.min(6, cursor.row + (step[0] ?? 0))),
        column: Math.max(0, Math.min(QUARTERS - 1, cursor.column + (step[1] ?? 0))),
      };
      if (event.shiftKey) put([to], here);
      setCursor(to);
    }
  };
  // The pointer is captured, so a stretch that is dragged out of the grid still ends where it was
  // let go; the
  // last place is the event's own, as the last movement may not have been drawn yet.
  const onDragEnd = (event: PointerEvent) => {
    const place = drag && placeOf(event);
    if (!place) return;
    const stretch = { ...drag, toRow: place.row, toColumn: place.column };
    const places = [];
    for (let row = 0; row < 7; row++)
      for (let column = 0; column < QUARTERS; column++)
        if (within(stretch, row, column)) places.push({ row, column });
    put(places, drag.value);
    setDrag(null);
  };

  const copyRow = () => {
    const now = [...cells];
    for (let row = 0; row < 7; row++)
      for (let column = 0; column < QUARTERS; column++)
        now[cellAt(row, column)] = cells[cellAt(cursor.row, column)] as T;
    onPaint(now);
  };
  return (
    <div className="my-2">
      <div className="grid grid-cols-[34px_1fr] text-xs text-ink-2">
        <span />
        <span aria-hidden className="flex justify-between">
          {[12, 18, 0, 6, 12].map((hour, i) => (
            <span key={i}>{two(hour)}</span>
          ))}
        </span>
        <span aria-hidden className="flex flex-col">
          {NAMES.map((name) => (
            <span key={name} className="h-5 leading-5">
              {name}
            </span>
          ))}
        </span>
        <div
          ref={grid}
          role="grid"
          aria-label={label}
          aria-rowcount={7}
          aria-colcount={QUARTERS}
          tabIndex={0}
          aria-activedescendant={`${id}-${cursor.row}-${cursor.column}`}
          onKeyDown={onKey}
          onPointerDown={(event) => {
            const place = placeOf(event);
            if (!place) return;
            event.currentTarget.setPointerCapture(event.pointerId);
            const value = cells[cellAt(place.row, place.column)] === brush ? nothing : brush;
            setCursor(place);
            setDrag({ ...place, toRow: place.row, toColumn: place.column, value });
          }}
          onPointerMove={(event) => {
            const place = drag && placeOf(event);
            if (place) setDrag({ ...drag, toRow: place.row, toColumn: place.column });
          }}
          onPointerUp={onDragEnd}
          onPointerCancel={() => {
            setDrag(null);
          }}
          className="cursor-crosshair touch-none select-none"
        >
          {WEEKDAYS.map((day, row) => (
            <div
              key={day}
              role="row"
              className="grid h-5 grid-cols-[repeat(96,1fr)] border-b border-rule bg-closed"
            >
              {Array.from({ length: QUARTERS }, (_, column) => {
                const value = within(drag, row, column)
                  ? drag?.value
                  : (cells[cellAt(row, column)] as T);
                const at = cursor.row === row && cursor.column === column;
                return (
                  <span
                    key={column}
                    role="gridcell"
                    id={at ? `${id}-${row}-${column}` : undefined}
                    aria-selected={value !== nothing}
                    aria-label={
                      at ? `${placeInWords(row, column)}, ${inWords(value as T)}` : undefined
                    }
                    style={{
                      background: value !== nothing ? "var(--slate)" : undefined,
                      outline: at ? "2px solid var(--ink)" : undefined,
                    }}
                    className={
                      column % 24 === 0 && column ? "border-l border-rule-strong" : undefined
                    }
                  />
                );
              })}
            </div>
          ))}
        </div>
      </div>
      <p className="mt-1 flex flex-wrap items-center gap-2">
        <span role="status" className="flex-1 text-xs text-ink-2">
          {placeInWords(cursor.row, cursor.column)}: {inWords(here)}
        </span>
        <Button small onClick={copyRow}>
          Copy {NAMES[cursor.row]} to every night
        </Button>
      </p>
      <TypedHours onHours={(text) => onPaint(typedHours(text, brush, nothing))} />
    </div>
  );
}

/** The same hours, typed. */
function TypedHours({ onHours }: { onHours: (text: string) => void }) {
  const [text, setText] = useState("");
  const [wrong, setWrong] = useState<string | null>(null);
  const set = () => {
    try {
      onHours(text);
      setText("");
      setWrong(null);
    } catch (error) {
      if (!(error instanceof HoursMistyped)) throw error;
      setWrong(error.message);
    }
  };
  return (
    <div className="flex items-start gap-2">
      <span className="flex-1">
        <Field
          label="Or type the hours of the week"
          placeholder="mon-fri 20:00-06:00 except 01:00-02:00; sat, sun 00:00-24:00"
          value={text}
          wrong={wrong}
          onChange={(event) => {
            setText(event.target.value);
            setWrong(null);
          }}
          onKeyDown={(event) => {
            if (event.key !== "Enter" || !text.trim()) return;
            // The painter may stand in a form that saves more than this.
            event.preventDefault();
            set();
          }}
        />
      </span>
      <Button className="mt-4" disabled={!text.trim()} onClick={set}>
        Set
      </Button>
    </div>
  );
}
