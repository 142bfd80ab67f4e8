import { useCallback, useEffect, useLayoutEffect, useMemo, useRef, useState } from "react";
import type { Night, Run } from "../api/client";
import type { LaneBy } from "../api/planQueries";
import { useAddress } from "../workbench/address";
import { firstBar, useKeys } from "../workbench/keys";
import { useTheme } from "../ui/theme";
import { useWorkbench } from "../workbench/store";
import { millis } from "../time/time";
import { BoardBar, LANES } from "./BoardBar";
import { BoardTable } from "./BoardTable";
import {
  AXIS_HEIGHT,
  fittingSpan,
  instantAt,
  LABEL_WIDTH,
  lanesOf,
  shifted,
  type Sorting,
  type Span,
  type TimeScale,
  zoomed,
} from "./geometry";
import { useFindings } from "../workbench/findings";
import { FirstSteps } from "./FirstSteps";
import { FindingsSheet } from "./FindingsSheet";
import { JobSheet } from "./JobSheet";
import { Keys } from "./Keys";
import { Lanes } from "./Lanes";
import { paintAxis } from "./paint/axis";
import { prepared } from "./paint/canvas";
import { paletteOf } from "./paint/palette";
import { Overview } from "./Overview";
import { Reasons } from "./Reasons";
import { Rooflines } from "./Rooflines";
import { RoomStrip } from "./RoomStrip";

const SCROLLBAR_PX = 14;

/** The board: lanes of jobs against the hours of a night, and the rooflines below them. */
export function Board() {
  const bench = useWorkbench();
  const { night, nightError, plan } = bench;
  if (!plan.jobs.length) return <FirstSteps />;
  if (nightError && !night)
    return (
      <main className="flex-1 p-6" aria-label="Board">
        <p role="alert">{nightError.message}</p>
      </main>
    );
  if (!night)
    return (
      <main className="flex-1 p-6 text-ink-2" aria-label="Board">
        <p role="status">The night is being simulated …</p>
      </main>
    );
  return <NightBoard night={night} />;
}

function NightBoard({ night }: { night: Night }) {
  const bench = useWorkbench();
  const { plan, jobs } = bench;
  const { search, set: setAddress } = useAddress();
  const asTable = search.get("as") === "table";
  const by = (LANES.find((lanes) => lanes === search.get("lanes")) ?? "job") as LaneBy;
  const wide = search.get("span") === "week" ? "week" : "night";
  const overview = by !== "job" || wide === "week";
  const [room, setRoom] = useState(false);
  const [sorting, setSorting] = useState<Sorting>("trouble");
  const [opened, setOpened] = useState<{ job: string; occurrence: string | null } | null>(null);
  const [hovered, setHovered] = useState<string | null>(null);
  const [pointer, setPointer] = useState<number | null>(null);
  const [keysOpen, setKeysOpen] = useState(false);
  const [finding, setFinding] = useState(false);
  const { findings } = useFindings();
  const [width, setWidth] = useState(0);
  const frame = useRef<HTMLDivElement>(null);

  useLayoutEffect(() => {
    const box = frame.current;
    if (!box) return;
    const observer = new ResizeObserver(() => setWidth(box.clientWidth));
    observer.observe(box);
    return () => observer.disconnect();
  }, [asTable, overview]);

  // The order of the lanes holds still while something is moved.
  const sorted = useMemo(() => lanesOf(night, plan.jobs, sorting), [night, plan.jobs, sorting]);
  const orderKey = `${night.date} ${sorting} ${plan.draft?.revision ?? 0}`;
  const [order, setOrder] = useState({ key: "", ids: [] as string[] });
  if (order.key !== orderKey) {
    setOrder({ key: orderKey, ids: sorted.map((lane) => lane.job.id) });
  }
  const lanes = useMemo(
    () => [...sorted].sort((x, y) => order.ids.indexOf(x.job.id) - order.ids.indexOf(y.job.id)),
    [sorted, order],
  );

  const { week } = bench;
  const bounds = useMemo(
    () =>
      wide === "week" && week.length
        ? { from: millis(week[0]!.start), to: millis(week.at(-1)!.end) }
        : { from: millis(night.start), to: millis(night.end) },
    [night.start, night.end, week, wide],
  );
  // The span that fits the night when it is opened stays until it is zoomed by hand.
  const shownKey = wide === "week" ? `week ${bounds.from}` : night.date;
  const fitting = () => (wide === "week" ? bounds : fittingSpan(night));
  const [view, setView] = useState(() => ({ key: shownKey, span: fitting() }));
  if (view.key !== shownKey) setView({ key: shownKey, span: fitting() });
  const span = view.span;
  const scale: TimeScale = useMemo(
    () => ({ ...span, width: Math.max(0, width - LABEL_WIDTH - SCROLLBAR_PX) }),
    [span, width],
  );
  const setSpan = useCallback((next: Span) => setView({ key: shownKey, span: next }), [shownKey]);
  const choose = useCallback(
    (key: string, value: string, usual: string) =>
      setAddress({ [key]: value === usual ? null : value }),
    [setAddress],
  );
  const zoom = useCallback(
    (factor: number, around?: number) =>
      setView(({ span: now }) => ({
        key: shownKey,
        span: zoomed(now, factor, around ?? (now.from + now.to) / 2, bounds),
      })),
    [bounds, shownKey],
  );

  const open = useCallback((job: string, run: Run | null) => {
    setFinding(false);
    setOpened({ job, occurrence: run?.occurrence ?? null });
  }, []);
  const openJob = useCallback((job: string) => open(job, null), [open]);
  const close = useCallback(() => setOpened(null), []);
  const toggleFindings = useCallback(() => {
    setOpened(null);
    setFinding((now) => !now);
  }, []);
  const toggleTable = useCallback(
    () =>
      setAddress({ as: new URLSearchParams(window.location.search).get("as") ? null : "table" }),
    [setAddress],
  );

  // Keys of the whole board; those of a bar are handled where the bar is.
  const onBoard = (work: (event: KeyboardEvent) => unknown) => (event: KeyboardEvent) => {
    if ((event.target as HTMLElement).closest("input, textarea, [role=menu]")) return;
    if (work(event) !== false) event.preventDefault();
  };
  const zoomIn = onBoard(() => zoom(0.7));
  const help = onBoard(() => setKeysOpen(true));
  useKeys({
    "$mod+z": onBoard(() => bench.undo()),
    "$mod+s": onBoard(() => bench.save()),
    Escape: onBoard(() => {
      if (keysOpen) setKeysOpen(false);
      else if (opened) close();
      else if (finding) setFinding(false);
    }),
    ArrowDown: onBoard((event) => {
      if (!(event.target as HTMLElement).matches("body, main")) return false;
      firstBar()?.focus();
    }),
    t: onBoard(toggleTable),
    f: onBoard(toggleFindings),
    r: onBoard(() => {
      if (!opened) return false;
      setRoom((now) => !now);
    }),
    w: onBoard(() => choose("span", wide === "week" ? "night" : "week", "night")),
    "?": help,
    "Shift+?": help,
    "+": zoomIn,
    "Shift++": zoomIn,
    "-": onBoard(() => zoom(1 / 0.7)),
    "0": onBoard(() => setSpan(fittingSpan(night))),
  });

  // Ctrl+wheel zooms, a sideways wheel moves along; React's own wheel handler may not prevent.
  useEffect(() => {
    const box = frame.current;
    if (!box || overview) return;
    const onWheel = (event: WheelEvent) => {
      const x = event.clientX - box.getBoundingClientRect().left - LABEL_WIDTH;
      if (event.ctrlKey) zoom(event.deltaY > 0 ? 1.15 : 1 / 1.15, instantAt(scale, x));
      else if (event.deltaX || event.shiftKey) {
        const pixels = event.deltaX || event.deltaY;
        setSpan(shifted(span, (pixels / scale.width) * (span.to - span.from), bounds));
      } else return;
      event.preventDefault();
    };
    box.addEventListener("wheel", onWheel, { passive: false });
    return () => box.removeEventListener("wheel", onWheel);
  }, [bounds, scale, setSpan, span, zoom, asTable, overview]);

  const sheetJob = opened ? jobs.get(opened.job) : undefined;
  const sheetRuns = night.run_list.filter((run) => run.job === opened?.job);
  const sheetRun =
    sheetRuns.find((run) => run.occurrence === opened?.occurrence) ??
    [...sheetRuns].sort((a, b) => b.source_bytes - a.source_bytes)[0] ??
    null;

  return (
    <div className="flex min-h-0 flex-1 narrow:flex-col">
      <main className="flex min-w-0 flex-1 flex-col" aria-label="Board">
        <BoardBar
          night={night}
          by={by}
          sorting={sorting}
          wide={wide}
          asTable={asTable}
          finding={finding}
          findings={findings?.length ?? null}
          choose={choose}
          onSorting={setSorting}
          onZoom={zoom}
          onFindings={toggleFindings}
          onTable={toggleTable}
          onKeys={setKeysOpen}
        />
        <Reasons night={night} onOpen={openJob} />
        {overview ? (
          <Overview
            by={by}
            span={wide}
            sorting={sorting}
            view={span}
            bounds={bounds}
            asTable={asTable}
            onView={setSpan}
            onOpen={openJob}
          />
        ) : asTable ? (
          <BoardTable lanes={lanes} chosen={opened?.job ?? null} onOpen={open} />
        ) : (
          <div ref={frame} className="flex min-h-0 flex-1 flex-col narrow:h-96 narrow:flex-none">
            <Axis night={night} scale={scale} />
            {room && sheetJob && (
              <RoomStrip
                job={sheetJob}
                run={sheetRun}
                scale={scale}
                onClose={() => setRoom(false)}
              />
            )}
            {width > 0 && (
              <>
                <Lanes
                  lanes={lanes}
                  scale={scale}
                  chosen={opened?.job ?? null}
                  hovered={hovered}
                  pointer={pointer}
                  onHover={setHovered}
                  onPointer={setPointer}
                  onOpen={open}
                />
                <Rooflines
                  night={night}
                  lanes={lanes}
                  jobs={jobs}
                  scale={scale}
                  chosen={opened?.job ?? null}
                  hovered={hovered}
                  pointer={pointer}
                  onPointer={setPointer}
                />
              </>
            )}
          </div>
        )}
      </main>
      {finding && !sheetJob && <FindingsSheet onClose={toggleFindings} onOpenJob={openJob} />}
      {sheetJob && (
        <JobSheet
          job={sheetJob}
          runs={sheetRuns}
          run={sheetRun}
          onRun={(run) => open(run.job, run)}
          onRoom={() => setRoom(!room)}
          onClose={close}
        />
      )}
      <Keys open={keysOpen} onOpen={setKeysOpen} />
    </div>
  );
}

function Axis({ night, scale }: { night: Night; scale: TimeScale }) {
  const canvas = useRef<HTMLCanvasElement>(null);
  const theme = useTheme();
  useLayoutEffect(() => {
    if (!canvas.current || scale.width <= 0) return;
    const context = prepared(canvas.current, scale.width, AXIS_HEIGHT);
    if (!context) return;
    const start = millis(night.start);
    // Where a limit sets in or ends on one of the loads shown.
    const marks = night.loads.flatMap((load) =>
      (load.capacity ?? []).slice(1).map(([at]) => start + (at ?? 0) * 1000),
    );
    const draw = () =>
      paintAxis(context, scale, night.time_zone, paletteOf(canvas.current!), marks);
    draw();
    void document.fonts.ready.then(() => {
      if (!canvas.current) return;
      prepared(canvas.current, scale.width, AXIS_HEIGHT);
      draw();
    });
  }, [night.start, night.loads, night.time_zone, scale, theme]);
  return (
    <canvas
      ref={canvas}
      aria-hidden
      className="block shrink-0"
      style={{ width: scale.width, height: AXIS_HEIGHT, marginLeft: LABEL_WIDTH }}
    />
  );
}
