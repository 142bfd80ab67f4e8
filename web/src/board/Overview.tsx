import { useQuery } from "@tanstack/react-query";
import { clsx } from "clsx";
import { ChevronDown, ChevronRight } from "lucide-react";
import {
  type KeyboardEvent,
  type PointerEvent,
  memo,
  useCallback,
  useLayoutEffect,
  useMemo,
  useRef,
  useState,
} from "react";
import { lanesQuery, type LaneBy } from "../api/planQueries";
import { useTheme } from "../ui/theme";
import { useWorkbench } from "../workbench/store";
import { dayClock, duration, millis } from "../time/time";
import { Button } from "../ui/Button";
import { Table } from "../ui/Table";
import { count } from "../ui/words";
import {
  AXIS_HEIGHT,
  LABEL_WIDTH,
  type Sorting,
  type Span,
  shifted,
  type TimeScale,
  zoomed,
} from "./geometry";
import { operationsOf } from "../workbench/moves";
import { paintAxis } from "./paint/axis";
import { prepared } from "./paint/canvas";
import { paletteOf } from "./paint/palette";
import { paintPlaces } from "./paint/places";
import {
  pieceAt,
  type Piece,
  type Place,
  placesOf,
  sortedPlaces,
  stackedPlaces,
  visiblePlaces,
  heightOf,
} from "./rows";

interface Props {
  by: LaneBy;
  span: "night" | "week";
  sorting: Sorting;
  view: Span;
  bounds: Span;
  asTable: boolean;
  onView: (view: Span) => void;
  onOpen: (job: string) => void;
}

const SCROLLBAR_PX = 14;
const KIND_WORDS = {
  full: "full",
  incremental: "incremental",
  differential: "differential",
  synthetic: "synthetic full",
  copy: "copy",
  rewrite: "work in the repository",
};
const MARK_WORDS = { "": "", past: "late", undone: "not done", skipped: "skipped" };

/** Who is busy when: lanes of machines, hosts, proxies and so on, for a night or its week. */
export function Overview(props: Props) {
  const { by, span, sorting, asTable } = props;
  const { plan, jobs, draft, date, moves, considered } = useWorkbench();
  const operations = useMemo(
    () => [...operationsOf(moves, jobs), ...considered],
    [moves, jobs, considered],
  );
  const found = useQuery({
    ...lanesQuery(plan, draft, date, by, span, operations),
    placeholderData: (before) => before,
  });
  const places = useMemo(
    () => (found.data ? sortedPlaces(placesOf(found.data), sorting) : []),
    [found.data, sorting],
  );
  if (found.error)
    return (
      <p role="alert" className="p-4 text-barn">
        {found.error.message}
      </p>
    );
  if (!found.data)
    return (
      <p role="status" className="p-4 text-ink-2">
        Sorting out who is busy when …
      </p>
    );
  if (!places.length)
    return (
      <p role="status" className="p-4">
        Nothing goes on here in this {span}.
      </p>
    );
  return (
    <>
      {found.data.cut && (
        <p role="status" className="px-4 text-hay-text">
          There is more than can be told apart; only the first 20,000 pieces are shown.
        </p>
      )}
      {asTable ? <PlaceTable places={places} by={by} /> : <PlaceLanes {...props} places={places} />}
    </>
  );
}

function PlaceLanes({
  places,
  view,
  bounds,
  by,
  span,
  onView,
  onOpen,
}: Props & { places: Place[] }) {
  const { plan, jobs, night } = useWorkbench();
  const windows = night?.windows;
  const walls = useMemo(
    () =>
      span === "night" && windows?.length
        ? {
            from: Math.min(...windows.map((w) => millis(w.opens))),
            to: Math.max(...windows.map((w) => millis(w.closes))),
          }
        : null,
    [windows, span],
  );
  const theme = useTheme();
  const zone = plan.time_zone;
  const frame = useRef<HTMLDivElement>(null);
  const canvas = useRef<HTMLCanvasElement>(null);
  const axis = useRef<HTMLCanvasElement>(null);
  const [size, setSize] = useState({ width: 0, height: 0 });
  const [scrolled, setScrolled] = useState(0);
  const [folded, setFolded] = useState<ReadonlySet<string>>(new Set());
  const [under, setUnder] = useState<{ piece: Piece; x: number; y: number } | null>(null);
  const drag = useRef<{ x: number; view: Span } | null>(null);
  const scale: TimeScale = useMemo(
    () => ({ ...view, width: Math.max(0, size.width - LABEL_WIDTH - SCROLLBAR_PX) }),
    [view, size.width],
  );
  const { tops, height } = useMemo(() => stackedPlaces(places, folded), [places, folded]);

  useLayoutEffect(() => {
    const box = frame.current;
    if (!box) return;
    const observer = new ResizeObserver(() =>
      setSize({ width: box.clientWidth, height: box.clientHeight - AXIS_HEIGHT }),
    );
    observer.observe(box);
    return () => observer.disconnect();
  }, []);

  useLayoutEffect(() => {
    if (!canvas.current || !axis.current || scale.width <= 0 || size.height <= 0) return;
    const palette = paletteOf(canvas.current);
    const line = prepared(axis.current, scale.width, AXIS_HEIGHT);
    if (line) paintAxis(line, scale, zone, palette, []);
    const context = prepared(canvas.current, scale.width, size.height);
    if (context)
      paintPlaces(context, {
        places,
        tops,
        folded,
        scale,
        zone,
        palette,
        height: size.height,
        scrolled,
        walls,
      });
  }, [places, tops, folded, scale, size.height, scrolled, zone, theme, walls]);

  const around = (view.from + view.to) / 2;
  const step = (view.to - view.from) / 8;
  const onKey = (event: KeyboardEvent) => {
    if (event.key === "ArrowLeft") onView(shifted(view, -step, bounds));
    else if (event.key === "ArrowRight") onView(shifted(view, step, bounds));
    else if (event.key === "+") onView(zoomed(view, 0.7, around, bounds));
    else if (event.key === "-") onView(zoomed(view, 1 / 0.7, around, bounds));
    else if (event.key === "0") onView(bounds);
    else return;
    event.preventDefault();
    event.stopPropagation();
  };
  useLayoutEffect(() => {
    const box = frame.current;
    if (!box) return;
    const onWheel = (event: WheelEvent) => {
      const x = event.clientX - box.getBoundingClientRect().left - LABEL_WIDTH;
      const length = view.to - view.from;
      if (event.ctrlKey)
        onView(
          zoomed(
            view,
            event.deltaY > 0 ? 1.15 : 1 / 1.15,
            view.from + (x / scale.width) * length,
            bounds,
          ),
        );
      else if (event.deltaX || event.shiftKey)
        onView(shifted(view, ((event.deltaX || event.deltaY) / scale.width) * length, bounds));
      else return;
      event.preventDefault();
    };
    box.addEventListener("wheel", onWheel, { passive: false });
    return () => box.removeEventListener("wheel", onWheel);
  }, [bounds, onView, scale.width, view]);

  const onPointer = (event: PointerEvent<HTMLCanvasElement>) => {
    const box = event.currentTarget.getBoundingClientRect();
    const x = event.clientX - box.left;
    const y = event.clientY - box.top + scrolled;
    if (drag.current) {
      const { view: from, x: began } = drag.current;
      onView(
        shifted(from, ((began - event.clientX) / scale.width) * (from.to - from.from), bounds),
      );
      setUnder(null);
      return;
    }
    const piece = pieceAt(places, tops, folded, scale, x, y);
    setUnder(
      piece ? { piece, x: Math.min(x, scale.width - 260), y: event.clientY - box.top } : null,
    );
  };
  const [first, last] = visiblePlaces(tops, height, scrolled, size.height);
  const toggle = useCallback(
    (id: string) =>
      setFolded((before) => {
        const now = new Set(before);
        if (!now.delete(id)) now.add(id);
        return now;
      }),
    [],
  );
  const tall = useMemo(() => places.filter((place) => place.rows.length > 2), [places]);
  return (
    <div
      ref={frame}
      className="flex min-h-0 flex-1 flex-col narrow:h-96 narrow:flex-none"
      data-overview={by}
    >
      <div className="flex shrink-0">
        <span className="flex items-center pl-4" style={{ width: LABEL_WIDTH }}>
          {tall.length > 0 && (
            <Button
              small
              look="plain"
              onClick={() =>
                setFolded(folded.size ? new Set() : new Set(tall.map((place) => place.id)))
              }
            >
              {folded.size ? "Unfold all" : "Fold all"}
            </Button>
          )}
        </span>
        <canvas
          ref={axis}
          aria-hidden
          className="block shrink-0"
          style={{ width: scale.width, height: AXIS_HEIGHT }}
        />
      </div>
      <div
        className="relative min-h-0 flex-1 overflow-x-hidden overflow-y-auto"
        tabIndex={0}
        role="region"
        aria-label={`Work by ${by}; arrow keys move in time, plus and minus zoom`}
        onKeyDown={onKey}
        onScroll={(event) => setScrolled(event.currentTarget.scrollTop)}
      >
        <div className="relative" style={{ height: Math.max(height, 1) }}>
          <canvas
            ref={canvas}
            aria-hidden
            className={clsx("sticky top-0 block", under ? "cursor-pointer" : "cursor-grab")}
            style={{ width: scale.width, height: size.height, marginLeft: LABEL_WIDTH }}
            onPointerDown={(event) => {
              if (event.button !== 0) return;
              event.currentTarget.setPointerCapture(event.pointerId);
              if (!under) drag.current = { x: event.clientX, view };
            }}
            onPointerUp={() => {
              drag.current = null;
            }}
            onPointerMove={onPointer}
            onPointerLeave={() => setUnder(null)}
            onClick={() => under && onOpen(under.piece.job)}
          />
          {under && (
            <div
              aria-hidden
              className="pointer-events-none sticky z-20 w-64 border border-rule-strong bg-raised px-2.5 py-1.5 text-xs"
              style={{
                top: Math.max(0, under.y - 70),
                left: 0,
                marginLeft: LABEL_WIDTH + under.x + 12,
                marginTop: -size.height,
              }}
            >
              <strong>{jobs.get(under.piece.job)?.name ?? under.piece.job}</strong>
              {under.piece.machine && `, ${under.piece.machine}`}
              <span className="block">
                {KIND_WORDS[under.piece.kind]}
                {under.piece.mark && `, ${MARK_WORDS[under.piece.mark]}`}
              </span>
              <span className="block">
                {dayClock(under.piece.from, zone)} to {dayClock(under.piece.to, zone)},{" "}
                {duration((under.piece.to - under.piece.from) / 1000)}
              </span>
            </div>
          )}
          <PlaceLabels
            places={places}
            first={first}
            last={last}
            tops={tops}
            folded={folded}
            zone={zone}
            onFold={toggle}
          />
        </div>
      </div>
    </div>
  );
}

interface LabelProps {
  places: Place[];
  first: number;
  last: number;
  tops: readonly number[];
  folded: ReadonlySet<string>;
  zone: string;
  onFold: (id: string) => void;
}

/** Names of the places that can be seen; they stay as they are while the board moves in time. */
const PlaceLabels = memo(function PlaceLabels({
  places,
  first,
  last,
  tops,
  folded,
  zone,
  onFold,
}: LabelProps) {
  return (
    <>
      {places.slice(first, last).map((place, i) => (
        <button
          key={place.id}
          type="button"
          aria-expanded={!folded.has(place.id)}
          aria-label={`${place.label}: ${count(place.pieces, "piece")} of work, last until ${dayClock(place.lastEnd, zone)}${place.trouble ? ", in trouble" : ""}; fold`}
          onClick={() => onFold(place.id)}
          className="absolute left-0 flex items-start gap-1 overflow-hidden border-t border-rule pt-1 pr-2 pl-2 text-left hover:bg-closed"
          style={{
            top: tops[first + i],
            height: heightOf(place, folded.has(place.id)),
            width: LABEL_WIDTH,
          }}
        >
          {folded.has(place.id) ? (
            <ChevronRight size={13} aria-hidden className="mt-0.5 shrink-0" />
          ) : (
            <ChevronDown size={13} aria-hidden className="mt-0.5 shrink-0" />
          )}
          <span
            className={clsx(
              "min-w-0 flex-1 truncate",
              place.trouble >= 500 && "font-semibold text-barn",
            )}
          >
            {place.label}
          </span>
        </button>
      ))}
    </>
  );
});

function PlaceTable({ places, by }: { places: Place[]; by: LaneBy }) {
  const { plan } = useWorkbench();
  const zone = plan.time_zone;
  return (
    <div
      tabIndex={0}
      role="region"
      aria-label={`Work by ${by}, as a table`}
      className="min-h-0 flex-1 overflow-auto px-4"
    >
      <Table
        caption={`Work by ${by}`}
        rows={places}
        idOf={(place) => place.id}
        columns={[
          { header: by[0]!.toUpperCase() + by.slice(1), accessorFn: (place) => place.label },
          { header: "Pieces", accessorFn: (place) => place.pieces, meta: { right: true } },
          { header: "At once", accessorFn: (place) => place.rows.length, meta: { right: true } },
          {
            header: "Busy",
            accessorFn: (place) => place.busy,
            cell: (cell) => duration(Number(cell.getValue()) / 1000),
            meta: { right: true },
          },
          {
            header: "Last end",
            accessorFn: (place) => place.lastEnd,
            cell: (cell) => dayClock(Number(cell.getValue()), zone),
            meta: { right: true },
          },
          {
            header: "Not done or late",
            accessorFn: (place) => place.rows.flat().filter((piece) => piece.mark).length,
            meta: { right: true },
          },
        ]}
      />
    </div>
  );
}
