import { useMutation, useQuery } from "@tanstack/react-query";
import type { ColumnDef } from "@tanstack/react-table";
import { useId, useState } from "react";
import {
  type MachinePoint,
  pointsQuery,
  restoreInANight,
  subjectsQuery,
} from "../api/recoveryQueries";
import { dateClock, dayClock, duration, longDate } from "../time/time";
import { Button } from "../ui/Button";
import { Choice } from "../ui/Choice";
import { Pending } from "../ui/Pending";
import { Sheet } from "../ui/Sheet";
import { Table } from "../ui/Table";
import { bytes, count } from "../ui/words";
import { useAddress } from "../workbench/address";
import { useEscape } from "../workbench/keys";
import { OrderDesk } from "../workbench/OrderDesk";
import { useWorkbench } from "../workbench/store";
import { CheckForm } from "./CheckForm";
import { instantOf, iso } from "./asked";
import { PointLines } from "./PointLines";
import { useMachineNames } from "../workbench/useMachineNames";
import { fallenWith, keyOf, newestGood } from "./chains";

/** The points of a machine in all repositories on one axis of time, and the ways back. */
export function Points() {
  const { plan, draft, date, week } = useWorkbench();
  const { search, set } = useAddress();
  const machine = search.get("machine");
  const time = search.get("time") ?? "02:00";
  const host = search.get("host");
  const night = week.find((each) => each.date === date);
  const at = night ? iso(instantOf(Date.parse(night.start), time, plan.time_zone)) : null;
  const id = useId();
  const subjects = useQuery(subjectsQuery(plan, draft));
  const hosts = (subjects.data?.subjects ?? []).filter((each) => each.kind === "hosts");
  return (
    <div className="flex min-h-0 flex-1 flex-col narrow:block">
      <div className="flex flex-wrap items-center gap-x-2 px-4 pt-2 text-base">
        <b>Points of</b>
        <MachineName machine={machine} onChoose={(name) => set({ machine: name, point: null })} />
        <label htmlFor={`${id}-time`} className="text-ink-2">
          as they are at
        </label>
        <input
          id={`${id}-time`}
          type="time"
          required
          value={time}
          onChange={(event) => event.target.value && set({ time: event.target.value })}
          className="h-7 rounded-[3px] border border-rule-strong bg-raised px-1.5"
        />
        <span className="text-ink-2">in the night of {longDate(date)}</span>
        <Choice
          lead="restored to"
          value={host ?? ""}
          options={[
            { value: "", label: "where it is" },
            ...hosts.map((each) => ({ value: each.id, label: each.name })),
            ...(subjects.data?.servers ?? [])
              .filter((each) => each !== machine)
              .map((each) => ({ value: each, label: `${each}, physical` })),
          ]}
          onChange={(name) => set({ host: name || null })}
        />
      </div>
      {machine && at ? (
        <Shown machine={machine} at={at} host={host} />
      ) : (
        <p className="max-w-xl px-4 py-3 text-base">
          Name a machine to see which points of it exist then, what holds each of them, and how long
          it takes to have the machine back from it.
        </p>
      )}
    </div>
  );
}

function MachineName({
  machine,
  onChoose,
}: {
  machine: string | null;
  onChoose: (name: string) => void;
}) {
  const list = useId();
  const [typed, setTyped] = useState(machine ?? "");
  const names = useMachineNames(typed) ?? [];
  return (
    <>
      <input
        aria-label="Machine"
        list={list}
        value={typed}
        placeholder="name of a machine"
        onChange={(event) => {
          setTyped(event.target.value);
          if (names.includes(event.target.value)) onChoose(event.target.value);
        }}
        onKeyDown={(event) => {
          if (event.key === "Enter" && typed.trim()) onChoose(typed.trim());
        }}
        className="h-7 w-52 rounded-[3px] border border-rule-strong bg-raised px-1.5"
      />
      <datalist id={list}>
        {names.map((name) => (
          <option key={name} value={name} />
        ))}
      </datalist>
    </>
  );
}

function Shown({ machine, at, host }: { machine: string; at: string; host: string | null }) {
  const { plan, draft } = useWorkbench();
  const { search, set } = useAddress();
  const found = useQuery(pointsQuery(plan, draft, machine, at, host));
  useEscape(() => set({ point: null }));
  if (found.error || !found.data)
    return <Pending error={found.error} text="Reading the points …" />;
  const points = found.data.points;
  const newest = newestGood(points, new Set());
  const chosen = points.find((each) => keyOf(each) === search.get("point"));
  const choose = (key: string) => set({ point: key === search.get("point") ? null : key });
  return (
    <div className="flex min-h-0 flex-1 narrow:flex-col">
      <section
        aria-label={`Points of ${machine}`}
        tabIndex={0}
        className="min-w-0 flex-1 overflow-y-auto px-4 pt-2 pb-4"
      >
        <p className="text-base" role="status">
          {points.length === 0
            ? "No point of it exists then."
            : newest
              ? `${count(points.length, "point")}. The newest that can be used is of ${dateClock(newest.at, plan.time_zone)}: whole in ${newest.way ? duration(newest.way.full_s) : "no time that can be told"}.`
              : `${count(points.length, "point")}, and none of them can be used.`}
        </p>
        <PointLines
          points={points}
          at={at}
          chosen={chosen ? keyOf(chosen) : null}
          onChoose={choose}
        />
        <Table
          caption={`Points of ${machine}, the newest first`}
          rows={[...points].sort((a, b) => b.at.localeCompare(a.at)).slice(0, MOST_LISTED)}
          columns={columns(plan.time_zone)}
          idOf={keyOf}
          chosen={search.get("point")}
          onChoose={(point) => choose(keyOf(point))}
        />
        {points.length > MOST_LISTED && (
          <p className="pt-1 text-ink-2">
            The newest {MOST_LISTED} of {count(points.length, "point")}.
          </p>
        )}
      </section>
      {chosen && (
        <PointSheet
          key={keyOf(chosen)}
          machine={machine}
          at={at}
          host={host}
          point={chosen}
          points={points}
          onClose={() => set({ point: null })}
        />
      )}
    </div>
  );
}

const MOST_LISTED = 200;

const columns = (zone: string): ColumnDef<MachinePoint>[] => [
  {
    id: "at",
    header: "Started",
    accessorFn: (p) => p.at,
    cell: (c) => <span className="whitespace-nowrap">{dateClock(c.row.original.at, zone)}</span>,
  },
  { id: "kind", header: "Kind", accessorFn: (p) => p.kind },
  { id: "repository", header: "Repository", accessorFn: (p) => p.repository },
  {
    id: "stored",
    header: "Size",
    meta: { right: true },
    accessorFn: (p) => p.stored_bytes,
    cell: (c) => bytes(c.row.original.stored_bytes),
  },
  { id: "chain", header: "Chain", meta: { right: true }, accessorFn: (p) => p.chain_points },
  { id: "carries", header: "Need it", meta: { right: true }, accessorFn: (p) => p.carries },
  {
    id: "full",
    header: "Whole in",
    meta: { right: true },
    accessorFn: (p) => p.way?.full_s ?? -1,
    cell: (c) => {
      const way = c.row.original.way;
      return way ? duration(way.full_s) : "not at all";
    },
  },
  {
    id: "kept",
    header: "Kept",
    accessorFn: (p) => p.kept_by.join("; "),
  },
];

function PointSheet({
  machine,
  at,
  host,
  point,
  points,
  onClose,
}: {
  machine: string;
  at: string;
  host: string | null;
  point: MachinePoint;
  points: readonly MachinePoint[];
  onClose: () => void;
}) {
  const { plan, draft, date } = useWorkbench();
  const zone = plan.time_zone;
  const [bad, setBad] = useState(false);
  const night = useMutation({
    mutationFn: () =>
      restoreInANight(plan.id, machine, {
        draft: draft?.id ?? null,
        night: date,
        at,
        point: { job: point.job, repository: point.repository, at: point.at },
        method: "full",
        to_host: host,
      }),
  });
  const fallen = fallenWith(points, point);
  const instead = newestGood(points, fallen);
  const copies = points.filter(
    (each) =>
      each.at === point.at &&
      each.job === point.job &&
      each.repository !== point.repository &&
      each.usable,
  );
  const job = plan.jobs.find((each) => each.id === point.job);
  const way = point.way;
  return (
    <Sheet
      label={`Point of ${machine}`}
      title={`${point.kind} of ${dateClock(point.at, zone)}`}
      onClose={onClose}
    >
      <p className="text-ink-2">
        {job?.name ?? point.job}, in {point.repository}
        {point.cold && ", in its colder tier"}
      </p>
      <p className="pt-1">
        {bytes(point.stored_bytes)}; its chain has {count(point.chain_points, "point")} with{" "}
        {bytes(point.chain_bytes)}.{" "}
        {point.carries > 0 ? `${count(point.carries, "point")} need it.` : "None needs it."}
      </p>
      <p className="pt-1">
        {point.kept_by.length
          ? `Kept: ${point.kept_by.join("; ")}.`
          : "No rule wants it any more; it only carries others."}
      </p>
      <h3 className="pt-3 font-semibold">Back from it, alone</h3>
      {!point.usable && (
        <p className="text-barn">
          {point.bad_since
            ? `It was found to be bad ${dateClock(point.bad_since, zone)}.`
            : "A point of its chain is missing or bad."}
        </p>
      )}
      {point.usable && !way && (
        <p className="text-barn">No route leads from there to the target.</p>
      )}
      {way && (
        <>
          <dl className="grid grid-cols-[150px_1fr] gap-y-0.5">
            <dt className="text-ink-2">The whole machine</dt>
            <dd>{duration(way.full_s)}</dd>
            <dt className="text-ink-2">Instant start</dt>
            <dd>{duration(way.instant_s)}</dd>
            <dt className="text-ink-2">Single files</dt>
            <dd>{duration(way.files_s)}</dd>
            {way.disks.length > 1 &&
              way.disks.map((disk) => (
                <div key={disk.disk} className="contents">
                  <dt className="truncate text-ink-2">Disk {disk.disk}</dt>
                  <dd>
                    {duration(disk.seconds)}, {bytes(disk.written_bytes)}
                  </dd>
                </div>
              ))}
          </dl>
          <p className="text-ink-2">
            {bytes(way.read_bytes)} read, {bytes(way.written_bytes)} written
            {way.limited_by && `; limited by ${way.limited_by}`}.
          </p>
          <h3 className="pt-3 font-semibold">In the middle of the night</h3>
          <Button small disabled={night.isPending} onClick={() => night.mutate()}>
            Restore it at {dayClock(at, zone)}
          </Button>
          {night.error && (
            <p role="alert" className="text-barn">
              {night.error.message}
            </p>
          )}
          {night.data && (
            <div role="status">
              <p>
                {night.data.back
                  ? `Back ${dayClock(night.data.back, zone)}, ${duration((Date.parse(night.data.back) - Date.parse(at)) / 1000)} after it was asked for.`
                  : `It is not back: ${night.data.outcome}.`}
                {night.data.limited_by && ` Limited by ${night.data.limited_by}.`}
              </p>
              <p>
                {night.data.later.length === 0
                  ? "No run of the night ends later for it."
                  : `The night is ${night.data.night.verdict} (without it ${night.data.was.verdict}). ` +
                    night.data.later
                      .slice(0, 4)
                      .map(
                        (each) =>
                          `${plan.jobs.find((j) => j.id === each.job)?.name ?? each.job} ends ${duration(each.seconds)} later`,
                      )
                      .join("; ") +
                    "."}
              </p>
            </div>
          )}
        </>
      )}
      <Checks point={point} zone={zone} />
      <h3 className="pt-3 font-semibold">
        {point.bad_since ? "This point is bad" : "If this point is bad"}
      </h3>
      {!point.bad_since && (
        <Button small aria-pressed={bad} onClick={() => setBad(!bad)}>
          See what falls with it
        </Button>
      )}
      {(bad || point.bad_since) && (
        <div role="status">
          <p>
            {fallen.size === 1
              ? "No other point needs it."
              : `${count(fallen.size - 1, "point")} that ${fallen.size === 2 ? "needs" : "need"} it ${fallen.size === 2 ? "falls" : "fall"} with it.`}
          </p>
          <p>
            {instead
              ? `Use the one of ${dateClock(instead.at, zone)} in ${instead.repository} instead${lost(points, instead)}.`
              : "No other point of the machine can be used: order a full tonight."}
          </p>
          {copies.length > 0 && (
            <p>
              Good points of the same run lie in {copies.map((each) => each.repository).join(", ")}.
            </p>
          )}
          {!point.exists ? (
            <p className="text-ink-2">It is only forecast; what exists can be marked.</p>
          ) : (
            <CheckForm
              plan={plan.id}
              point={{ ...point, machine }}
              source="hand"
              good={Boolean(point.bad_since)}
              act={{ good: "It is good after all", bad: "This point is bad" }}
              question={point.bad_since ? "Why it is good after all" : "What is wrong with it"}
            />
          )}
          {point.bad_since && (
            <>
              <p className="pt-2">
                The next run builds on what is good; a full at once makes up for what is lost.
              </p>
              <OrderDesk
                plan={plan.id}
                job={point.job}
                failed={[]}
                chosen={[machine]}
                kinds={["run in full"]}
              />
            </>
          )}
        </div>
      )}
    </Sheet>
  );
}

/** What was found out about a point, the newest first. */
function Checks({ point, zone }: { point: MachinePoint; zone: string }) {
  if (!point.checks.length && !point.verified_at) return null;
  return (
    <>
      <h3 className="pt-3 font-semibold">Verified and tested</h3>
      <ul>
        {point.checks.map((check) => (
          <li key={check.checked_at + check.source}>
            {dateClock(check.checked_at, zone)}:{" "}
            <span className={check.good ? "" : "text-barn"}>
              {SAID[check.source][check.good ? 0 : 1]}
            </span>
            {check.took_s !== null && `, in ${duration(check.took_s)}`}
            {check.note && `: ${check.note}`}
            <span className="text-ink-2"> ({check.actor})</span>
          </li>
        ))}
        {point.verified_at && (
          <li>{dateClock(point.verified_at, zone)}: verified at the end of its run</li>
        )}
      </ul>
    </>
  );
}

const SAID: Record<MachinePoint["checks"][number]["source"], [string, string]> = {
  hand: ["good, said by hand", "bad, said by hand"],
  verify: ["verified", "failed its verify"],
  test: ["a machine came up from it", "no machine came up from it"],
};

/** How much older a point is than the newest that could be used. */
function lost(points: readonly MachinePoint[], instead: MachinePoint): string {
  const newest = newestGood(points, new Set());
  const seconds = newest ? (Date.parse(newest.at) - Date.parse(instead.at)) / 1000 : 0;
  return seconds > 0 ? `: ${duration(seconds)} of work more are lost` : "; nothing more is lost";
}
