import { useQuery } from "@tanstack/react-query";
import { clsx } from "clsx";
import { useState } from "react";
import { useWorkbench } from "../workbench/store";
import { addDays, dateWords, DAY, millis } from "../time/time";
import { Field } from "../ui/Field";
import { bytes, count } from "../ui/words";
import { Pick } from "../ui/controls";
import { type Look, type PointAhead, pointsQuery, type SpaceAhead } from "../api/jobQueries";
import type { JobEdit } from "../sentence/useJobEdit";

const WIDTH = 860;
const ROW = 64;
const HEIGHTS: Record<string, number> = { full: 26, differential: 18, incremental: 11 };
const FILLS: Record<string, string> = {
  full: "fill-slate",
  differential: "fill-ochre",
  incremental: "fill-sage",
};
const dayOf = (at: string) => {
  const d = dateWords(at.slice(0, 10));
  return `${d.short} ${d.day} ${d.month.slice(0, 3)}`;
};

/** Which points exist on a future day, what holds what, and the space till then. */
export function PointsPicture({
  edit,
  id,
  look,
}: {
  edit: JobEdit;
  id: string;
  look: Look | undefined;
}) {
  const { plan, draft } = useWorkbench();
  const [day, setDay] = useState(addDays(plan.first_night, 35));
  const [machine, setMachine] = useState<string | null>(null);
  const [chosen, setChosen] = useState<PointAhead | null>(null);
  const found = useQuery({
    ...pointsQuery(plan, draft, id, edit.operations, day, machine),
    placeholderData: (before) => before,
  });
  const points = found.data?.points ?? [];
  const places = [...new Set(points.map((p) => p.repository))];
  // One axis for all, so that points of one time stand below one another.
  const from = Math.min(...points.map((p) => millis(p.at))) - DAY / 2;
  return (
    <>
      <div className="flex items-end gap-4">
        <div className="w-36">
          <Field
            label="On the day"
            type="date"
            min={addDays(plan.first_night, 1)}
            max={addDays(plan.first_night, 399)}
            value={day}
            onChange={(e) => e.target.value && setDay(e.target.value)}
          />
        </div>
        <Pick
          label="Machine"
          value={machine ?? found.data?.machine ?? ""}
          options={(look?.selected ?? []).map((m) => m.machine)}
          onChange={setMachine}
        />
        <p role="status" className="pb-2 text-ink-2">
          {found.isFetching
            ? "playing forward …"
            : found.data &&
              `${count(points.length, "point")}, ${bytes(points.reduce((s, p) => s + p.stored_bytes, 0))}`}
        </p>
      </div>
      {found.error && (
        <p role="alert" className="text-barn">
          {found.error.message}
        </p>
      )}
      {found.data && !points.length && <p>No point exists on that day.</p>}
      {places.map((place) => (
        <Strip
          key={place}
          place={place}
          points={points.filter((p) => p.repository === place)}
          from={from}
          day={day}
          chosen={chosen}
          onChoose={setChosen}
        />
      ))}
      {points.length > 0 && (
        <p className="min-h-5" role="status">
          {chosen ? (
            <>
              <strong>
                {chosen.kind} of {dayOf(chosen.at)}
              </strong>
              , {bytes(chosen.stored_bytes)}
              {chosen.cold && ", in the colder tier"}:{" "}
              {chosen.kept_by.length ? `kept as ${chosen.kept_by.join("; ")}` : "wanted by no rule"}
              {chosen.carries > 0 &&
                `; ${count(chosen.carries, "later point")} ${chosen.carries === 1 ? "needs" : "need"} it`}
              {chosen.base_at && `; it needs that of ${dayOf(chosen.base_at)}`}.
            </>
          ) : (
            <span className="text-ink-2">
              High: full; low: incremental; between: differential. Hollow: wanted by no rule, held
              because others need it. Choose a point for why.
            </span>
          )}
        </p>
      )}
      {found.data?.space && <Space space={found.data.space} />}
      {found.data && found.data.space === null && points.length > 0 && (
        <p className="text-ink-2">The job makes too many runs till then to draw its space.</p>
      )}
    </>
  );
}

function Strip({
  place,
  points,
  from,
  day,
  chosen,
  onChoose,
}: {
  place: string;
  points: PointAhead[];
  from: number;
  day: string;
  chosen: PointAhead | null;
  onChoose: (point: PointAhead) => void;
}) {
  const end = millis(`${day}T12:00:00Z`);
  const x = (at: string) => 8 + ((millis(at) - from) / Math.max(end - from, DAY)) * (WIDTH - 24);
  const same = (p: PointAhead, other: PointAhead | null) =>
    other !== null && p.at === other.at && p.repository === other.repository;
  return (
    <figure className="mb-1">
      <figcaption className="font-medium">{place}</figcaption>
      <svg
        viewBox={`0 0 ${WIDTH} ${ROW}`}
        className="block w-full max-w-[1100px]"
        role="group"
        aria-label={`Points in ${place} on ${day}`}
      >
        <line x1={0} x2={WIDTH} y1={ROW - 18} y2={ROW - 18} className="stroke-rule-strong" />
        {points
          .filter((p) => p.base_at)
          .map((p) => (
            <path
              key={`to ${p.at}`}
              d={`M ${x(p.at)} ${ROW - 17} Q ${(x(p.at) + x(p.base_at!)) / 2} ${ROW + 6} ${x(p.base_at!)} ${ROW - 17}`}
              className={clsx("fill-none", same(p, chosen) ? "stroke-ink" : "stroke-rule-strong")}
            />
          ))}
        {points.map((p) => {
          const height = HEIGHTS[p.kind] ?? 11;
          const held = p.kept_by.length === 0;
          return (
            <rect
              key={p.at}
              x={x(p.at) - 4}
              y={ROW - 18 - height}
              width={8}
              height={height}
              role="button"
              tabIndex={0}
              aria-label={`${p.kind} of ${dayOf(p.at)}, ${p.kept_by.join("; ") || "held for others"}`}
              onClick={() => onChoose(p)}
              onFocus={() => onChoose(p)}
              className={clsx(
                "cursor-pointer stroke-[1.5]",
                held ? "fill-surface stroke-ink-2" : FILLS[p.kind],
                !held && (same(p, chosen) ? "stroke-ink" : "stroke-transparent"),
                p.cold && "opacity-60",
              )}
            />
          );
        })}
        <text x={0} y={ROW - 2} className="fill-ink-2 text-[11px]">
          {dayOf(points[0]!.at)}
        </text>
        <text x={WIDTH} y={ROW - 2} textAnchor="end" className="fill-ink-2 text-[11px]">
          {dayOf(day)}
        </text>
      </svg>
    </figure>
  );
}

function Space({ space }: { space: readonly SpaceAhead[] }) {
  const most = Math.max(1, ...space.flatMap((s) => s.steps.map((step) => step.bytes)));
  const all = space.flatMap((s) => s.steps.map((step) => millis(step.at)));
  const [from, to] = [Math.min(...all), Math.max(...all)];
  const height = 90;
  return (
    <figure className="mt-2">
      <figcaption className="font-medium">
        Space of the whole job:{" "}
        {space.map((s) => `${s.repository} ${bytes(s.steps.at(-1)?.bytes ?? 0)}`).join(", ")} at the
        end, {bytes(most)} at most
      </figcaption>
      <svg
        viewBox={`0 0 ${WIDTH} ${height}`}
        className="block w-full max-w-[1100px]"
        role="img"
        aria-label={space
          .map(
            (s) =>
              `${s.repository}: ${bytes(s.steps[0]?.bytes ?? 0)} at first, ${bytes(s.steps.at(-1)?.bytes ?? 0)} at the end`,
          )
          .join("; ")}
      >
        <line x1={0} x2={WIDTH} y1={height - 1} y2={height - 1} className="stroke-rule-strong" />
        {space.map((s, i) => (
          <polyline
            key={s.repository}
            points={s.steps
              .map(
                (step) =>
                  `${((millis(step.at) - from) / Math.max(1, to - from)) * WIDTH},${height - 2 - (step.bytes / most) * (height - 8)}`,
              )
              .join(" ")}
            className={clsx(
              "fill-none stroke-2",
              i ? "stroke-plum [stroke-dasharray:5_4]" : "stroke-slate",
            )}
          />
        ))}
      </svg>
    </figure>
  );
}
