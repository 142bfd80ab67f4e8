import { clsx } from "clsx";
import { Fragment, type PointerEvent, useState } from "react";
import type { RepositoryLife, Runway, VolumeLife } from "../api/runwayQueries";
import { gib, percent } from "../ui/words";
import {
  bandPath,
  ceilingOf,
  dayWords,
  instantOfPart,
  monthWords,
  placeOf,
  stacked,
  stepPath,
} from "./axis";

const LABEL_PX = 208;
const HEIGHT = 112;
const VOLUME_HEIGHT = 52;

/** One wide, low panel for each repository: space stacked by job under the roof, months along. */
export function Panels({
  runway,
  before,
  zone,
  chosen,
  onChoose,
}: {
  runway: Runway;
  /** The plan as it is saved, where something is being tried. */
  before: Runway | null;
  zone: string;
  chosen: string | null;
  onChoose: (repository: string) => void;
}) {
  const [pointer, setPointer] = useState<number | null>(null);
  return (
    <div role="group" aria-label="Space of each repository, months along">
      <MonthAxis runway={runway} />
      {runway.repositories.map((life) => (
        <Fragment key={life.id}>
          <Panel
            runway={runway}
            life={life}
            before={before?.repositories.find((each) => each.id === life.id) ?? null}
            zone={zone}
            chosen={chosen === life.id}
            onChoose={() => onChoose(life.id)}
            pointer={pointer}
            onPointer={setPointer}
          />
          {life.volumes.map((volume) => (
            <VolumePanel
              key={volume.id}
              runway={runway}
              pool={life.id}
              volume={volume}
              zone={zone}
              pointer={pointer}
              onPointer={setPointer}
            />
          ))}
        </Fragment>
      ))}
    </div>
  );
}

function MonthAxis({ runway }: { runway: Runway }) {
  const apart = Math.ceil(runway.months.length / 12);
  return (
    <div className="relative mr-4 h-5" style={{ marginLeft: LABEL_PX }} aria-hidden>
      {runway.months.map((month, i) =>
        i % apart === 0 && placeOf(runway, month.start) < 0.95 ? (
          <span
            key={month.name}
            className={clsx(
              "absolute border-l border-rule-strong pl-1 text-xs whitespace-nowrap text-ink-2",
              month.name.endsWith("-01") && "font-semibold",
            )}
            style={{ left: `${placeOf(runway, month.start) * 100}%` }}
          >
            {i === 0 || month.name.endsWith("-01") || apart > 1
              ? monthWords(month.name)
              : monthWords(month.name).slice(0, 3)}
          </span>
        ) : null,
      )}
    </div>
  );
}

/** When a repository is full, in words; the colour only repeats it. */
export function FullAt({
  life,
  runway,
  zone,
}: {
  life: RepositoryLife | VolumeLife;
  runway: Runway;
  zone: string;
}) {
  if (life.capacity_gib === null) return <span className="text-ink-2">no stated space</span>;
  if (!life.full_at)
    return <span className="text-ink-2">room beyond {dayWords(runway.end, zone)}</span>;
  if (life.full_at <= runway.start) return <b className="text-barn">full already</b>;
  return <b className="text-barn">full on {dayWords(life.full_at, zone)}</b>;
}

function Panel({
  runway,
  life,
  before,
  zone,
  chosen,
  onChoose,
  pointer,
  onPointer,
}: {
  runway: Runway;
  life: RepositoryLife;
  before: RepositoryLife | null;
  zone: string;
  chosen: boolean;
  onChoose: () => void;
  pointer: number | null;
  onPointer: (part: number | null) => void;
}) {
  const most = ceilingOf(life);
  // What is higher than the drawing is cut off there, not pressed flat.
  const y = (value: number) => HEIGHT - 2 - (HEIGHT - 6) * (value / most);
  const parts = stacked(life);
  const roof = life.capacity_gib;
  const held = life.immutable_gib;
  const chained = held.map((value, i) => value + life.chained_gib[i]!);
  const zero = life.gib.map(() => 0);
  const moved = before && before.full_at !== life.full_at;
  const full = life.full_at ? placeOf(runway, life.full_at) * 1000 : null;
  const feared = life.feared_full_at ? placeOf(runway, life.feared_full_at) * 1000 : null;
  return (
    <div
      className={clsx("relative flex border-b border-rule", chosen && "bg-surface")}
      style={{ height: HEIGHT + 8 }}
    >
      <button
        type="button"
        data-repository={life.id}
        aria-pressed={chosen}
        onClick={onChoose}
        className="shrink-0 overflow-hidden px-4 py-1.5 text-left text-sm leading-snug hover:bg-closed focus-visible:-outline-offset-2"
        style={{ width: LABEL_PX }}
      >
        <span className="block truncate text-base font-semibold">{life.id}</span>
        <span className="block text-ink-2">
          {gib(life.now_gib)}
          {roof !== null && ` of ${gib(roof)} now`}
        </span>
        <FullAt life={life} runway={runway} zone={zone} />
        {moved && (
          <span className="block text-ink-2">
            was {before.full_at ? dayWords(before.full_at, zone) : "not in sight"}
          </span>
        )}
        {life.feared_gib.length > 0 && roof !== null && (
          <span className="block text-ink-2">
            {life.feared_full_at
              ? `feared ${dayWords(life.feared_full_at, zone)}`
              : "room even with the feared growth"}
          </span>
        )}
      </button>
      <div className="relative mr-4 min-w-0 flex-1" {...pointing(life.gib.length, onPointer)}>
        <svg
          viewBox={`0 0 1000 ${HEIGHT}`}
          preserveAspectRatio="none"
          className="absolute inset-x-0 top-1 w-full"
          style={{ height: HEIGHT }}
          role="img"
          aria-label={`${life.id}: ${gib(life.now_gib)} now, at most ${gib(life.peak_gib)} on ${dayWords(life.peak_at, zone)}${roof === null ? "" : ` of ${gib(roof)}`}`}
        >
          <defs>
            <pattern id={`chain-${life.id}`} width="6" height="6" patternUnits="userSpaceOnUse">
              <path d="M0 6L6 0" stroke="var(--ink)" strokeWidth="0.7" opacity="0.55" />
            </pattern>
            <pattern id={`held-${life.id}`} width="5" height="5" patternUnits="userSpaceOnUse">
              <path d="M0 5L5 0M0 0L5 5" stroke="var(--ink)" strokeWidth="0.8" opacity="0.75" />
            </pattern>
          </defs>
          <MonthLines runway={runway} height={HEIGHT} />
          <Stack id={life.id} life={life} parts={parts} roof={roof} y={y} />
          <path d={bandPath(zero, held, y)} fill={`url(#held-${life.id})`} />
          <path d={bandPath(held, chained, y)} fill={`url(#chain-${life.id})`} />
          <path
            d={stepPath(life.gib, y)}
            fill="none"
            stroke="var(--ink)"
            strokeWidth={1.2}
            vectorEffect="non-scaling-stroke"
          />
          {before && (
            <path
              d={stepPath(before.gib, y)}
              fill="none"
              stroke="var(--ink-2)"
              strokeWidth={1}
              vectorEffect="non-scaling-stroke"
            />
          )}
          {life.feared_gib.length > 0 && (
            <path
              d={stepPath(life.feared_gib, y)}
              fill="none"
              stroke="var(--hay)"
              strokeWidth={1.4}
              strokeDasharray="5 3"
              vectorEffect="non-scaling-stroke"
            />
          )}
          {roof !== null && <RoofLine y={y(roof)} full={full} height={HEIGHT} />}
          {feared !== null && (
            <line
              x1={feared}
              x2={feared}
              y1={roof === null ? 0 : y(roof) - 6}
              y2={HEIGHT}
              stroke="var(--hay)"
              strokeWidth={1.4}
              strokeDasharray="5 3"
              vectorEffect="non-scaling-stroke"
            />
          )}
        </svg>
        {full !== null && (
          <span
            aria-hidden
            className={clsx(
              "absolute bottom-1.5 bg-raised px-1 text-xs font-semibold whitespace-nowrap text-barn",
              full > 800 ? "-translate-x-full" : "",
            )}
            style={{ left: `calc(${full / 10}% + ${full > 800 ? -4 : 4}px)` }}
          >
            full {dayWords(life.full_at!, zone)}
          </span>
        )}
        {pointer !== null && (
          <Reading runway={runway} life={life} parts={parts} part={pointer} zone={zone} />
        )}
      </div>
    </div>
  );
}

/** A volume of a pool: lower, under the panel of its pool. */
function VolumePanel({
  runway,
  pool,
  volume,
  zone,
  pointer,
  onPointer,
}: {
  runway: Runway;
  pool: string;
  volume: VolumeLife;
  zone: string;
  pointer: number | null;
  onPointer: (part: number | null) => void;
}) {
  const most = ceilingOf(volume);
  const y = (value: number) => VOLUME_HEIGHT - 2 - (VOLUME_HEIGHT - 5) * (value / most);
  const parts = stacked(volume);
  const full = volume.full_at ? placeOf(runway, volume.full_at) * 1000 : null;
  return (
    <div
      role="group"
      aria-label={`Volume ${volume.id} of ${pool}`}
      className="flex border-b border-rule"
      style={{ height: VOLUME_HEIGHT + 6 }}
    >
      <p
        className="shrink-0 overflow-hidden py-1 pr-4 pl-8 text-sm leading-snug"
        style={{ width: LABEL_PX }}
      >
        <span className="block truncate">
          <b>{volume.id}</b>{" "}
          <span className="text-ink-2">
            {gib(volume.now_gib)} of {gib(volume.capacity_gib)}
          </span>
        </span>
        <FullAt life={volume} runway={runway} zone={zone} />
      </p>
      <div className="relative mr-4 min-w-0 flex-1" {...pointing(volume.gib.length, onPointer)}>
        <svg
          viewBox={`0 0 1000 ${VOLUME_HEIGHT}`}
          preserveAspectRatio="none"
          className="absolute inset-x-0 top-1 w-full"
          style={{ height: VOLUME_HEIGHT }}
          role="img"
          aria-label={`${volume.id}: ${gib(volume.now_gib)} now, at most ${gib(volume.peak_gib)} of ${gib(volume.capacity_gib)}`}
        >
          <MonthLines runway={runway} height={VOLUME_HEIGHT} />
          <Stack
            id={`${pool}/${volume.id}`}
            life={volume}
            parts={parts}
            roof={volume.capacity_gib}
            y={y}
          />
          <RoofLine y={y(volume.capacity_gib)} full={full} height={VOLUME_HEIGHT} />
        </svg>
        {pointer !== null && (
          <Reading runway={runway} life={volume} parts={parts} part={pointer} zone={zone} />
        )}
      </div>
    </div>
  );
}

/** Tells which part of the horizon the pointer is over. */
function pointing(parts: number, onPointer: (part: number | null) => void) {
  return {
    onPointerMove: (event: PointerEvent<HTMLElement>) => {
      const box = event.currentTarget.getBoundingClientRect();
      const part = Math.floor(((event.clientX - box.left) / box.width) * parts);
      onPointer(Math.min(parts - 1, Math.max(0, part)));
    },
    onPointerLeave: () => onPointer(null),
  };
}

function MonthLines({ runway, height }: { runway: Runway; height: number }) {
  return runway.months.map((month) => (
    <line
      key={month.name}
      x1={placeOf(runway, month.start) * 1000}
      x2={placeOf(runway, month.start) * 1000}
      y1={0}
      y2={height}
      stroke="var(--rule)"
      strokeWidth={month.name.endsWith("-01") ? 2 : 1}
      vectorEffect="non-scaling-stroke"
    />
  ));
}

/** What jobs hold, one upon the other; what is above the roof is hatched. */
function Stack({
  id,
  life,
  parts,
  roof,
  y,
}: {
  id: string;
  life: Pick<RepositoryLife, "gib">;
  parts: ReturnType<typeof stacked>;
  roof: number | null;
  y: (value: number) => number;
}) {
  return (
    <>
      <defs>
        <pattern id={`late-${id}`} width="4" height="4" patternUnits="userSpaceOnUse">
          <rect width="4" height="4" fill="var(--surface)" />
          <path d="M-1 1L1 -1M0 4L4 0M3 5L5 3" stroke="var(--barn)" strokeWidth="1.8" />
        </pattern>
        <clipPath id={`over-${id}`}>
          <rect x="0" y="0" width="1000" height={roof === null ? 0 : y(roof)} />
        </clipPath>
      </defs>
      {parts.map((part, i) => (
        <path
          key={part.key || "rest"}
          d={bandPath(part.below, part.above, y)}
          fill={part.key ? (part.copies ? "var(--plum)" : "var(--slate)") : "var(--ink-2)"}
          opacity={i % 2 ? 0.34 : 0.52}
          stroke="var(--surface)"
          strokeWidth={0.6}
          vectorEffect="non-scaling-stroke"
        />
      ))}
      {roof !== null && (
        <path
          d={bandPath(
            life.gib.map(() => 0),
            life.gib,
            y,
          )}
          fill={`url(#late-${id})`}
          clipPath={`url(#over-${id})`}
        />
      )}
    </>
  );
}

/** The roof, and the peg where what is held meets it. */
function RoofLine({ y, full, height }: { y: number; full: number | null; height: number }) {
  return (
    <>
      <line
        x1={0}
        x2={1000}
        y1={y}
        y2={y}
        stroke="var(--ink)"
        strokeWidth={2.2}
        vectorEffect="non-scaling-stroke"
      />
      {full !== null && (
        <line
          x1={full}
          x2={full}
          y1={y - 8}
          y2={height}
          stroke="var(--barn)"
          strokeWidth={2}
          vectorEffect="non-scaling-stroke"
        />
      )}
    </>
  );
}

/** Who holds how much at the pointer. */
function Reading({
  runway,
  life,
  parts,
  part,
  zone,
}: {
  runway: Runway;
  life: Pick<RepositoryLife, "gib" | "capacity_gib">;
  parts: ReturnType<typeof stacked>;
  part: number;
  zone: string;
}) {
  const at = (part + 0.5) / life.gib.length;
  const total = life.gib[part]!;
  const most = [...parts].sort((a, b) => b.gib[part]! - a.gib[part]!).slice(0, 3);
  return (
    <>
      <i
        aria-hidden
        className="pointer-events-none absolute inset-y-1 border-l border-ink"
        style={{ left: `${at * 100}%` }}
      />
      <p
        className="pointer-events-none absolute top-1 z-10 max-w-[460px] truncate border border-rule bg-raised px-1.5 text-xs whitespace-nowrap"
        style={at > 0.5 ? { right: `${(1 - at) * 100 + 0.6}%` } : { left: `${at * 100 + 0.6}%` }}
      >
        <strong>{dayWords(instantOfPart(runway, part, life.gib.length), zone)}</strong> {gib(total)}
        {life.capacity_gib !== null && `, ${percent(total / life.capacity_gib)}`} ·{" "}
        {most.map((each) => `${each.name} ${gib(each.gib[part]!)}`).join(", ")}
      </p>
    </>
  );
}
