import { clsx } from "clsx";
import { Lock } from "lucide-react";
import { type KeyboardEvent, useEffect, useLayoutEffect, useRef, useState } from "react";
import type { Run } from "../api/client";
import { useTheme } from "../ui/theme";
import { useWorkbench } from "../workbench/store";
import { daysBetween, MINUTE } from "../time/time";
import { BarHandle } from "./BarHandle";
import { kindOf, runLabel, runLines } from "./explain";
import {
  type Bar,
  type Lane,
  LABEL_WIDTH,
  LANE_HEIGHT,
  NARROWEST_BAR,
  type TimeScale,
  xOf,
} from "./geometry";
import { type Move, whyFixed } from "../workbench/moves";
import { extentOf } from "./paint/bars";
import { prepared } from "./paint/canvas";
import { paintLanes } from "./paint/lanes";
import { paletteOf } from "./paint/palette";
import { NUDGE_MIN, useMoveKeys } from "./useBoardKeys";

interface Props {
  lanes: Lane[];
  scale: TimeScale;
  chosen: string | null;
  hovered: string | null;
  pointer: number | null;
  onHover: (job: string | null) => void;
  onPointer: (x: number | null) => void;
  onOpen: (job: string, run: Run | null) => void;
}

interface Drag {
  bar: Bar;
  startX: number;
  minutes: number;
  night: string | null;
  moved: boolean;
}

const DRAG_FROM_PX = 4;

/** The lanes: one canvas for what is seen, one handle for each bar for what is done with it. */
export function Lanes(props: Props) {
  const { lanes, scale, chosen, hovered, pointer, onHover, onPointer, onOpen } = props;
  const bench = useWorkbench();
  const zone = bench.plan.time_zone;
  const theme = useTheme();
  const scroller = useRef<HTMLDivElement>(null);
  const canvas = useRef<HTMLCanvasElement>(null);
  const [scrolled, setScrolled] = useState(0);
  const [height, setHeight] = useState(0);
  const [drag, setDrag] = useState<Drag | null>(null);
  const [active, setActive] = useState<string | null>(null);
  const onMoveKey = useMoveKeys((job, run) => onOpen(job, run));

  useLayoutEffect(() => {
    const box = scroller.current;
    if (!box) return;
    const observer = new ResizeObserver(() => setHeight(box.clientHeight));
    observer.observe(box);
    return () => observer.disconnect();
  }, []);

  const [fontsReady, setFontsReady] = useState(0);
  useEffect(() => {
    void document.fonts.ready.then(() => setFontsReady(1));
  }, []);

  useLayoutEffect(() => {
    if (!canvas.current || !height || scale.width <= 0) return;
    const context = prepared(canvas.current, scale.width, height);
    if (!context) return;
    const ghost = drag?.moved && !drag.night ? { bar: drag.bar, minutes: drag.minutes } : null;
    const palette = paletteOf(canvas.current);
    paintLanes(context, {
      lanes,
      scale,
      zone,
      palette,
      height,
      scrolled,
      chosen,
      hovered,
      ghost,
      pointer,
    });
  }, [lanes, scale, zone, height, scrolled, chosen, hovered, drag, pointer, theme, fontsReady]);

  const first = Math.max(0, Math.floor(scrolled / LANE_HEIGHT));
  const last = Math.min(lanes.length, Math.ceil((scrolled + height) / LANE_HEIGHT) + 1);
  const visible = lanes.slice(first, last);

  const focusBar = (id: string) => {
    setActive(id);
    requestAnimationFrame(() => {
      document.querySelector<HTMLElement>(`[data-bar="${CSS.escape(id)}"]`)?.focus();
    });
  };

  /** Up and down go to the lane beside, n and p to the next and previous run of the lane. */
  const onBarKey = (event: KeyboardEvent, laneIndex: number, bar: Bar) => {
    const lane = lanes[laneIndex]!;
    if (onMoveKey(event, lane.job, bar.run)) return;
    const within = { n: 1, p: -1 }[event.key];
    const across = { ArrowDown: 1, ArrowUp: -1 }[event.key];
    if (within) {
      const next = lane.bars[lane.bars.indexOf(bar) + within];
      if (next) focusBar(next.id);
    } else if (across) {
      let to = laneIndex + across;
      while (lanes[to] && !lanes[to]!.bars.length) to += across;
      const target = lanes[to];
      if (target) {
        const closest = [...target.bars].sort(
          (a, b) => Math.abs(a.due - bar.due) - Math.abs(b.due - bar.due),
        )[0]!;
        scroller.current?.scrollTo({
          top: Math.min(
            Math.max(scrolled, (to + 2) * LANE_HEIGHT - height),
            (to - 1) * LANE_HEIGHT,
          ),
        });
        focusBar(closest.id);
      }
    } else return;
    event.preventDefault();
  };

  const minutesOf = (event: PointerEvent, from: Drag): number => {
    const perPixel = (scale.to - scale.from) / scale.width / MINUTE;
    const step = event.shiftKey ? 1 : NUDGE_MIN;
    return Math.round(((event.clientX - from.startX) * perPixel) / step) * step;
  };

  /** Where a drag stands with the pointer here. */
  const draggedTo = (event: PointerEvent, from: Drag): Drag => {
    const night = nightUnder(event);
    const moved =
      from.moved || night !== null || Math.abs(event.clientX - from.startX) >= DRAG_FROM_PX;
    return { ...from, night, moved, minutes: night || !moved ? 0 : minutesOf(event, from) };
  };

  const onDragMove = (event: PointerEvent) => {
    if (!drag) return;
    const now = draggedTo(event, drag);
    if (!now.moved) return;
    const { job, schedule } = drag.bar.run;
    const fixed = whyFixed(bench.jobs.get(job), schedule);
    if (fixed) {
      bench.say(fixed);
      setDrag(null);
      return;
    }
    if (now.minutes === drag.minutes && now.night === drag.night && drag.moved) return;
    setDrag(now);
    bench.attempt(moveOf(now));
  };

  /**
   * The move that a drag stands for; none where it is back at its place, or only fulls could go.
   */
  const moveOf = ({ bar, minutes, night }: Drag): Move | null => {
    const { job, schedule } = bar.run;
    if (schedule === null) return null;
    if (!night) return minutes ? { type: "start", job, schedule, minutes } : null;
    const days = daysBetween(bench.date, night);
    const everyWeeks = weeksOfFull(job, schedule);
    return days && everyWeeks ? { type: "full", job, schedule, days, everyWeeks } : null;
  };
  /** How many weeks apart the dates of a weekly full are; null for any other schedule. */
  const weeksOfFull = (job: string, schedule: number) => {
    const planned = bench.jobs.get(job)?.schedules[schedule];
    return planned?.kind === "full" ? planned.every_weeks : null;
  };

  // The pointer is let go where this event says: the last move may not have been drawn yet.
  const onDragEnd = (event: PointerEvent) => {
    if (!drag) return;
    const end = draggedTo(event, drag);
    const { job, schedule } = end.bar.run;
    const fixed = end.moved ? whyFixed(bench.jobs.get(job), schedule) : null;
    setDrag(null);
    if (!end.moved) onOpen(job, end.bar.run);
    else if (fixed) bench.say(fixed);
    else {
      const move = moveOf(end);
      if (move) bench.move(move);
      else bench.attempt(null);
      if (end.night && schedule !== null && !weeksOfFull(job, schedule))
        bench.say("Only weekly fulls move by days.");
    }
  };

  const cancelDrag = () => {
    if (drag?.moved) bench.attempt(null);
    setDrag(null);
  };

  // A drag goes on wherever the pointer is, over whatever is drawn anew meanwhile.
  const handlers = useRef({ onDragMove, onDragEnd, cancelDrag });
  useEffect(() => {
    handlers.current = { onDragMove, onDragEnd, cancelDrag };
  });
  const dragging = drag !== null;
  useEffect(() => {
    if (!dragging) return;
    const control = new AbortController();
    const { signal } = control;
    const onEscape = (event: globalThis.KeyboardEvent) => {
      if (event.key !== "Escape") return;
      event.stopPropagation();
      handlers.current.cancelDrag();
    };
    window.addEventListener("pointermove", (e) => handlers.current.onDragMove(e), { signal });
    window.addEventListener("pointerup", (e) => handlers.current.onDragEnd(e), { signal });
    window.addEventListener("pointercancel", () => handlers.current.cancelDrag(), { signal });
    window.addEventListener("keydown", onEscape, { signal, capture: true });
    return () => control.abort();
  }, [dragging]);

  const firstBar = lanes.find((lane) => lane.bars.length)?.bars[0]?.id;
  const known = lanes.some((lane) => lane.bars.some((bar) => bar.id === active));
  const tabStop = known ? active : firstBar;

  return (
    <div
      ref={scroller}
      className="relative min-h-0 overflow-x-hidden overflow-y-auto"
      style={{ flex: `0 1 ${lanes.length * LANE_HEIGHT}px` }}
      onScroll={(event) => setScrolled(event.currentTarget.scrollTop)}
      role="region"
      aria-label="Runs by job"
    >
      <div className="relative" style={{ height: lanes.length * LANE_HEIGHT }}>
        <canvas
          ref={canvas}
          aria-hidden
          className="sticky top-0 block"
          style={{ width: scale.width, height, marginLeft: LABEL_WIDTH }}
          onPointerMove={(event) => {
            const box = event.currentTarget.getBoundingClientRect();
            onPointer(event.clientX - box.left);
            onHover(
              lanes[Math.floor((event.clientY - box.top + scrolled) / LANE_HEIGHT)]?.job.id ?? null,
            );
          }}
          onPointerLeave={() => {
            onPointer(null);
            onHover(null);
          }}
        />
        {visible.map((lane, i) => {
          const index = first + i;
          return (
            <div
              key={lane.job.id}
              className="pointer-events-none absolute inset-x-0"
              style={{ top: index * LANE_HEIGHT, height: LANE_HEIGHT }}
            >
              <LaneLabel
                lane={lane}
                chosen={lane.job.id === chosen}
                onOpen={() => onOpen(lane.job.id, null)}
              />
              {lane.bars.map((bar) => {
                const box = handleBox(bar, scale);
                if (!box) return null;
                const dragged =
                  drag?.moved &&
                  drag.bar.run.job === bar.run.job &&
                  drag.bar.run.schedule === bar.run.schedule;
                return (
                  <BarHandle
                    key={bar.id}
                    bar={bar}
                    box={box}
                    label={runLabel(bar.run, lane.job, zone)}
                    movable={whyFixed(lane.job, bar.run.schedule) === null}
                    quiet={drag !== null}
                    tabStop={bar.id === tabStop}
                    onFocus={() => setActive(bar.id)}
                    onHover={(on) => onHover(on ? lane.job.id : null)}
                    onKeyDown={(event) => onBarKey(event, index, bar)}
                    onPointerDown={(event) => {
                      if (event.button !== 0) return;
                      setDrag({
                        bar,
                        startX: event.clientX,
                        minutes: 0,
                        night: null,
                        moved: false,
                      });
                    }}
                    hint={
                      <>
                        <strong>
                          {lane.job.name}, {kindOf(bar.run)}
                        </strong>
                        {runLines(bar.run, zone).map((line) => (
                          <span key={line} className="block">
                            {line}
                          </span>
                        ))}
                      </>
                    }
                    dragged={Boolean(dragged)}
                  />
                );
              })}
            </div>
          );
        })}
      </div>
    </div>
  );
}

/** The night of the week strip that the pointer is over, if any. */
function nightUnder(event: PointerEvent): string | null {
  const found = document.elementFromPoint(event.clientX, event.clientY);
  return found?.closest<HTMLElement>("[data-night]")?.dataset["night"] ?? null;
}

function handleBox(bar: Bar, scale: TimeScale) {
  const start = bar.start ?? bar.due;
  const end = bar.start === null ? bar.due : (bar.end ?? bar.due);
  const left = Math.max(0, xOf(scale, start) - (bar.start === null ? 7 : 0));
  const right = Math.min(scale.width, xOf(scale, end) + (bar.start === null ? 7 : 0));
  if (right < 0 || left > scale.width) return null;
  const { top, height } = bar.start === null ? { top: 4, height: 16 } : extentOf(bar.shape);
  return { left, width: Math.max(NARROWEST_BAR + 3, right - left), top, height };
}

function LaneLabel({ lane, chosen, onOpen }: { lane: Lane; chosen: boolean; onOpen: () => void }) {
  const { job } = lane;
  return (
    <button
      type="button"
      onClick={onOpen}
      aria-label={`${job.name}, priority ${job.priority}: open its facts`}
      className={clsx(
        "pointer-events-auto absolute left-0 flex h-full items-center gap-1.5 overflow-hidden pr-2 pl-4 text-left",
        chosen ? "bg-closed font-semibold" : "hover:bg-closed",
        !lane.bars.length && !lane.copies.length && "text-ink-2",
      )}
      style={{ width: LABEL_WIDTH }}
      tabIndex={-1}
    >
      <span className="flex-1 truncate">{job.name}</span>
      {job.locked && <Lock size={12} aria-label="locked" className="shrink-0" />}
      <span aria-hidden className="flex shrink-0 gap-[2px]">
        {Array.from({ length: job.priority }, (_, i) => (
          <i key={i} className="block h-[5px] w-[4px] bg-ink-2" />
        ))}
      </span>
    </button>
  );
}
