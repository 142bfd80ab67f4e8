import { useQuery } from "@tanstack/react-query";
import { useId, useState } from "react";
import type { Operation } from "../api/client";
import { useConsiderWhileShown } from "../workbench/considering";
import { useRefusals } from "../workbench/refusals";
import { useWorkbench } from "../workbench/store";
import { useUnsaved } from "../workbench/unsaved";
import { addDays, dateWords, dayClock, daysBetween, duration } from "../time/time";
import { AskButton } from "../ui/AskButton";
import { Button } from "../ui/Button";
import { Choice, Choices } from "../ui/Choice";
import { Field } from "../ui/Field";
import { count } from "../ui/words";
import { type Interval, intervalInWords, intervalsOf, isEven, paint } from "./hours";
import { Removal } from "./ItemSheet";
import {
  add,
  change,
  type Ics,
  type PlanCalendar,
  type PlanWindow,
  readIcs,
  type Windows,
  windowsQuery,
} from "../api/pathQueries";
import { choicesQuery } from "../api/jobQueries";
import { Rules } from "../sentence/editors/rules";
import type { Condition } from "../sentence/value";
import { WeekPainter } from "./WeekPainter";

const ENDS: Record<string, string> = {
  stop: "stops",
  finish: "finishes what has begun",
  run_on: "runs on",
};
const longDay = (date: string) => {
  const words = dateWords(date);
  return `${words.short} ${words.day} ${words.month} ${words.year}`;
};

/** Windows and calendars: when data may flow, and on which days nothing starts. */
export function WindowsPane({
  chosen,
  onOpen,
}: {
  chosen: string | null;
  onOpen: (item: string | null) => void;
}) {
  const { plan, draft, date } = useWorkbench();
  const answer = useQuery({
    ...windowsQuery(plan, draft, date),
    placeholderData: (before) => before,
  });
  const data = answer.data;
  const asked = chosen?.startsWith("windows/") || chosen?.startsWith("calendars/") ? chosen : null;
  const first = data?.windows[0] ? `windows/${data.windows[0].id}` : null;
  const current = asked ?? first;
  const [list, id] = current
    ? [current.slice(0, current.indexOf("/")), current.slice(current.indexOf("/") + 1)]
    : ["", ""];
  const window = list === "windows" ? data?.windows.find((w) => w.id === id) : undefined;
  const calendar = list === "calendars" ? data?.calendars.find((c) => c.id === id) : undefined;
  const entry = (key: string, name: string, more: string) => (
    <li key={key}>
      <button
        type="button"
        aria-current={current === key ? "true" : undefined}
        onClick={() => onOpen(key)}
        className={`w-full rounded-[3px] px-2 py-1 text-left hover:bg-closed ${current === key ? "bg-closed" : ""}`}
      >
        <span className="block font-medium">{name}</span>
        <span className="block text-xs text-ink-2">{more}</span>
      </button>
    </li>
  );
  return (
    <div className="flex min-h-0 flex-1 gap-4 px-4 pb-2 narrow:flex-col">
      <nav
        aria-label="Windows and calendars"
        tabIndex={0}
        className="w-48 shrink-0 overflow-y-auto"
      >
        <h2 className="px-2 font-semibold">Windows</h2>
        <ul>
          {data?.windows.map((w) =>
            entry(
              `windows/${w.id}`,
              w.id,
              `${count(w.jobs.length, "job")}${w.touching.length ? `, ${w.touching.length} near or past its end` : ""}`,
            ),
          )}
        </ul>
        {data && !data.windows.length && (
          <p className="px-2 text-ink-2">
            A window says in which hours jobs may run. Add the first one below.
          </p>
        )}
        <AddNamed list="windows" onAdded={(made) => onOpen(`windows/${made}`)} />
        <h2 className="mt-4 px-2 font-semibold">Calendars</h2>
        <ul>
          {data?.calendars.map((c) =>
            entry(
              `calendars/${c.id}`,
              c.id,
              `${count((c.value["dates"] as string[]).length, "date")}`,
            ),
          )}
        </ul>
        {data && !data.calendars.length && (
          <p className="px-2 text-ink-2">
            A calendar lists days on which schedules may skip, such as holidays.
          </p>
        )}
        <AddNamed list="calendars" onAdded={(made) => onOpen(`calendars/${made}`)} />
      </nav>
      <div
        tabIndex={0}
        role="region"
        aria-label={window ? `Window ${id}` : calendar ? `Calendar ${id}` : "Nothing chosen"}
        className="min-w-0 flex-1 scroll-pb-14 overflow-y-auto"
      >
        {answer.error && <p role="alert">{answer.error.message}</p>}
        {!data && !answer.error && <p role="status">Looking the windows up …</p>}
        {window && data && (
          <WindowEditor
            key={`${id} ${draft?.revision}`}
            window={window}
            all={data}
            onGone={() => onOpen(null)}
          />
        )}
        {calendar && (
          <CalendarEditor
            key={`${id} ${draft?.revision}`}
            calendar={calendar}
            onGone={() => onOpen(null)}
          />
        )}
      </div>
    </div>
  );
}

function AddNamed({
  list,
  onAdded,
}: {
  list: "windows" | "calendars";
  onAdded: (id: string) => void;
}) {
  const { put, plan } = useWorkbench();
  const [name, setName] = useState("");
  const [open, setOpen] = useState(false);
  const noun = list === "windows" ? "window" : "calendar";
  if (!open)
    return (
      <Button small look="plain" className="mx-1 underline" onClick={() => setOpen(true)}>
        Add a {noun} …
      </Button>
    );
  return (
    <form
      className="px-2"
      onSubmit={(event) => {
        event.preventDefault();
        const id = name.trim();
        if (!id) return;
        const start = {
          days: ["mon", "tue", "wed", "thu", "fri", "sat", "sun"],
          from: "20:00",
          to: "06:00",
        };
        put([
          add(
            list,
            list === "windows"
              ? { id, time_zone: plan.time_zone, open: [start] }
              : { id, dates: [] },
          ),
        ]);
        setOpen(false);
        setName("");
        onAdded(id);
      }}
    >
      <Field
        label={`Name of the ${noun}`}
        value={name}
        onChange={(event) => setName(event.target.value)}
      />
      <button
        type="submit"
        disabled={!name.trim()}
        className="h-7 rounded-[3px] border border-rule-strong bg-surface px-2 hover:bg-closed disabled:opacity-45"
      >
        Add
      </button>
    </form>
  );
}

const AS_IT_IS: Record<string, unknown> = {};
const countOf = (values: object) => Object.keys(values).length;

/** Keeps what is being changed in view above, and what to do with it. */
function useTrial(
  key: string,
  title: string,
  make: (values: Record<string, unknown>) => Operation[],
) {
  const { considered, put, busy } = useWorkbench();
  const { value: values, set: setValues, clear } = useUnsaved(key, () => title, AS_IT_IS, countOf);
  const edits = countOf(values);
  useConsiderWhileShown(edits ? make(values) : []);
  const set = (changes: Record<string, unknown>) => setValues((now) => ({ ...now, ...changes }));
  const refusals = useRefusals();
  const bar = (
    <div className="sticky bottom-0 bg-ground py-1">
      {refusals.lines.map((line) => (
        <p key={line} role="alert" className="text-barn">
          {line}
        </p>
      ))}
      <p className="flex items-center gap-2">
        <Button
          look="strong"
          disabled={!considered.length || refusals.lines.length > 0 || busy === "saving"}
          onClick={() => void put([...considered]).then((done) => done && clear())}
        >
          Add to draft
        </Button>
        <AskButton
          ask={edits > 1}
          question={`Discard ${count(edits, "edit")} of the ${title}?`}
          disabled={!edits}
          onYes={clear}
        >
          Discard
        </AskButton>
        {considered.length > 0 && !refusals.lines.length && (
          <span className="text-ink-2">The week above shows the plan with it.</span>
        )}
      </p>
    </div>
  );
  return { values, set, bar };
}

interface Exception {
  date: string;
  open: { from: string; to: string }[];
}

interface Place {
  window: string | null;
  at_window_end: string;
}

function WindowEditor({
  window,
  all,
  onGone,
}: {
  window: PlanWindow;
  all: Windows;
  onGone: () => void;
}) {
  const { plan, draft } = useWorkbench();
  const { values, set, bar } = useTrial(
    `window ${window.id}`,
    `window ${window.id}`,
    ({ jobs, ...now }) => [
      ...(Object.keys(now).length ? [change("windows", window.id, now)] : []),
      ...Object.entries((jobs ?? {}) as Record<string, Place>).map(([job, place]) => ({
        operation: "ChangeItem",
        list: "jobs",
        id: job,
        changes: { ...place },
      })),
    ],
  );
  const [removing, setRemoving] = useState(false);
  const moved = (values["jobs"] ?? {}) as Record<string, Place>;
  const open = (values["open"] ?? window.value["open"]) as Interval[];
  const exceptions = (values["exceptions"] ?? window.value["exceptions"]) as Exception[];
  const defaults = (values["default_for"] ?? window.value["default_for"] ?? []) as Condition[][];
  const choices = useQuery(choicesQuery(plan, draft));
  const zone = String(values["time_zone"] ?? window.value["time_zone"]);
  const cells = paint(
    open.map((i) => ({ ...i, value: true })),
    false,
    () => true,
  );
  const setEnd = (job: string, to: string, end: string) =>
    set({ jobs: { ...moved, [job]: { window: to === "none" ? null : to, at_window_end: end } } });
  const names = all.windows.map((w) => w.id);
  const where = ({ job, by_default }: PlanWindow["jobs"][number]) =>
    (job in moved ? moved[job]?.window : by_default ? null : window.id) ?? "none";
  const ways = ({ by_default }: PlanWindow["jobs"][number]) => [
    ...names.map((each) => ({ value: each, label: each })),
    { value: "none", label: by_default ? `${window.id}, by default` : "none" },
  ];
  const near = (job: string) => window.touching.findIndex((t) => t.job === job) >>> 0;
  const inOrder = [...window.jobs].sort((a, b) => near(a.job) - near(b.job));
  const nightOf = (instant: string) => dayClock(instant, zone);
  return (
    <>
      <h2 className="text-lg font-semibold">{window.id}</h2>
      <p>
        {open.length ? open.map(intervalInWords).join("; ") : "never open"}{" "}
        <span className="text-ink-2">({zone})</span>
      </p>
      <div className="w-56">
        <Field
          label="Time zone"
          list="time zones"
          value={zone}
          onChange={(event) => set({ time_zone: event.target.value })}
        />
        <datalist id="time zones">
          {Intl.supportedValuesOf("timeZone").map((each) => (
            <option key={each} value={each} />
          ))}
        </datalist>
      </div>
      {!isEven(open) && (
        <p className="text-hay-text">Painting rounds these times to quarters of an hour.</p>
      )}
      <WeekPainter
        label={`Hours of the window ${window.id}`}
        cells={cells}
        nothing={false}
        brush={true}
        inWords={(v) => (v ? "open" : "closed")}
        onPaint={(painted) =>
          set({
            open: intervalsOf(painted, false).map(({ days, from, to }) => ({ days, from, to })),
          })
        }
      />
      <p className="-mt-1 text-xs text-ink-2">
        Paint over open hours to cut peak hours out of them.
      </p>

      <div className="mt-3 grid grid-cols-2 gap-6">
        <section>
          <h3 className="font-semibold">Exceptions by date</h3>
          <Exceptions exceptions={exceptions} onChange={(now) => set({ exceptions: now })} />
          <h3 className="mt-3 font-semibold">Default for jobs of these machines</h3>
          <p className="text-ink-2">
            {defaults.length
              ? "A job without a window of its own runs in this one where all of its machines match."
              : "Of none: jobs name it themselves."}
          </p>
          {choices.data && (
            <Rules
              rules={defaults}
              offered={choices.data}
              onChange={(rules) => set({ default_for: rules })}
            />
          )}
          {bar}
          <h3 className="mt-3 font-semibold">Opens next</h3>
          <ul>
            {window.openings.slice(0, 8).map((o) => (
              <li key={o.opens}>
                {nightOf(o.opens)} to {nightOf(o.closes)}
                <span className="text-ink-2">
                  {" "}
                  ({longDay(o.opens.slice(0, 10))}
                  {o.exception && ", an exception"})
                </span>
              </li>
            ))}
          </ul>
          {window.openings.length === 0 && (
            <p className="text-barn">It does not open in the next four weeks.</p>
          )}
          {window.clock_changes.map((o) => (
            <p key={o.opens} className="text-hay-text">
              {longDay(o.opens.slice(0, 10))}: the clock goes{" "}
              {o.clock_moves_s > 0 ? "forward" : "back"}; it is open{" "}
              {duration(Math.abs(o.clock_moves_s))} {o.clock_moves_s > 0 ? "less" : "more"} than its
              hours say.
            </p>
          ))}
        </section>
        <section>
          <h3 className="font-semibold">At its end, and which runs come near it this week</h3>
          <ul>
            {inOrder.map((job) => {
              const touches = window.touching.filter((t) => t.job === job.job);
              return (
                <li key={job.job} className="border-b border-rule py-0.5">
                  <span className="flex flex-wrap items-center gap-1">
                    <span className="min-w-0 flex-1">{job.name}</span>
                    {job.locked ? (
                      <span className="text-ink-2">{ENDS[job.at_window_end]}, locked</span>
                    ) : (
                      <>
                        <Choice
                          lead=""
                          value={moved[job.job]?.at_window_end ?? job.at_window_end}
                          options={Object.entries(ENDS).map(([value, label]) => ({ value, label }))}
                          onChange={(end) => setEnd(job.job, where(job), end)}
                        />
                        <Choice
                          lead="in"
                          value={where(job)}
                          options={ways(job)}
                          onChange={(to) =>
                            setEnd(job.job, to, moved[job.job]?.at_window_end ?? job.at_window_end)
                          }
                        />
                      </>
                    )}
                  </span>
                  {touches.map((t) => (
                    <span
                      key={t.occurrence}
                      className={t.left_s < 0 || t.lost ? "block text-barn" : "block text-hay-text"}
                    >
                      {dayClock(t.occurrence, plan.time_zone)}:{" "}
                      {t.left_s < 0
                        ? `ends ${duration(-t.left_s)} past it`
                        : `${duration(t.left_s)} left`}
                      {t.lost > 0 && `, ${count(t.lost, "machine")} not backed up`}
                    </span>
                  ))}
                </li>
              );
            })}
          </ul>
          {window.jobs.length === 0 && (
            <p className="text-ink-2">
              No job runs inside it.{" "}
              <Button small onClick={() => setRemoving(true)}>
                Delete …
              </Button>
            </p>
          )}
          {removing && (
            <Removal
              list="windows"
              id={window.id}
              onKept={() => setRemoving(false)}
              onGone={onGone}
            />
          )}
          {all.jobs_without.length > 0 && (
            <>
              <h3 className="mt-3 font-semibold">At any hour</h3>
              <ul>
                {all.jobs_without.map((job) => (
                  <li key={job.job} className="flex items-center gap-1">
                    <span className="flex-1">{job.name}</span>
                    {!job.locked && (
                      <Button
                        small
                        look="plain"
                        aria-pressed={job.job in moved}
                        onClick={() => setEnd(job.job, window.id, job.at_window_end)}
                      >
                        {job.job in moved ? "Inside, as shown above" : "Put it inside"}
                      </Button>
                    )}
                  </li>
                ))}
              </ul>
            </>
          )}
        </section>
      </div>
    </>
  );
}

const NOTHING_TYPED = { date: "", through: "", from: "", to: "" };
const MOST_DATES = 366;

/** All dates from one through another, a year of them at most; the one alone without the other. */
function datesThrough(first: string, last: string): string[] {
  const days = last > first ? Math.min(daysBetween(first, last), MOST_DATES - 1) : 0;
  return Array.from({ length: days + 1 }, (_, i) => addDays(first, i));
}

function Exceptions({
  exceptions,
  onChange,
}: {
  exceptions: Exception[];
  onChange: (now: Exception[]) => void;
}) {
  const id = useId();
  const [typed, setTyped] = useState(NOTHING_TYPED);
  const sorted = [...exceptions].sort((a, b) => a.date.localeCompare(b.date));
  return (
    <>
      <ul>
        {sorted.map((exception) => (
          <li
            key={exception.date + JSON.stringify(exception.open)}
            className="flex items-center gap-2"
          >
            <span className="flex-1">
              {longDay(exception.date)}:{" "}
              {exception.open.length
                ? exception.open.map((o) => `${o.from} to ${o.to}`).join(", ")
                : "closed"}
            </span>
            <Button
              small
              look="plain"
              aria-label={`Take the exception of ${exception.date} away`}
              onClick={() => onChange(exceptions.filter((e) => e !== exception))}
            >
              ×
            </Button>
          </li>
        ))}
      </ul>
      {!exceptions.length && <p className="text-ink-2">None: every week is the same.</p>}
      <form
        className="mt-1 flex flex-wrap items-end gap-1"
        onSubmit={(event) => {
          event.preventDefault();
          const hours = typed.from && typed.to ? [{ from: typed.from, to: typed.to }] : [];
          const days = datesThrough(typed.date, typed.through);
          const others = exceptions.filter((each) => !days.includes(each.date));
          onChange([...others, ...days.map((date) => ({ date, open: hours }))]);
          setTyped(NOTHING_TYPED);
        }}
      >
        {(["date", "through", "from", "to"] as const).map((key) => (
          <label key={key} htmlFor={`${id}-${key}`} className="text-xs text-ink-2">
            {key === "date" ? "On" : key === "through" ? "through (optional)" : key}
            <input
              id={`${id}-${key}`}
              type={key === "date" || key === "through" ? "date" : "time"}
              min={key === "through" ? typed.date : undefined}
              required={key === "date"}
              value={typed[key]}
              onChange={(event) => setTyped({ ...typed, [key]: event.target.value })}
              className="block h-7 rounded-[3px] border border-rule-strong bg-raised px-1 text-ink"
            />
          </label>
        ))}
        <button
          type="submit"
          className="h-7 rounded-[3px] border border-rule-strong bg-surface px-2 hover:bg-closed"
        >
          {typed.from && typed.to ? "Add" : "Add as closed"}
        </button>
      </form>
    </>
  );
}

function CalendarEditor({ calendar, onGone }: { calendar: PlanCalendar; onGone: () => void }) {
  const { plan } = useWorkbench();
  const id = useId();
  const [removing, setRemoving] = useState(false);
  const skippedBy = (job: string) => calendar.used_by.includes(`job ${job}`);
  const { values, set, bar } = useTrial(
    `calendar ${calendar.id}`,
    `calendar ${calendar.id}`,
    ({ jobs, ...now }) => [
      ...(Object.keys(now).length ? [change("calendars", calendar.id, now)] : []),
      ...plan.jobs
        .filter(
          (job) => jobs !== undefined && (jobs as string[]).includes(job.id) !== skippedBy(job.id),
        )
        .map((job) => ({
          operation: "SkipCalendar",
          job: job.id,
          calendar: calendar.id,
          skips: !skippedBy(job.id),
        })),
    ],
  );
  const skipping =
    (values["jobs"] as string[] | undefined) ??
    plan.jobs.filter((job) => skippedBy(job.id)).map((job) => job.id);
  const dates = (values["dates"] ?? calendar.value["dates"]) as string[];
  const [typed, setTyped] = useState("");
  const [through, setThrough] = useState("");
  const [ics, setIcs] = useState<Ics | null>(null);
  const [problem, setProblem] = useState<string | null>(null);
  const put_in = (more: string[]) => set({ dates: [...new Set([...dates, ...more])].sort() });
  return (
    <>
      <h2 className="text-lg font-semibold">{calendar.id}</h2>
      <p className="text-ink-2">
        {calendar.used_by.length
          ? `Named by ${calendar.used_by.join(", ")}.`
          : "No schedule skips its dates."}
      </p>
      <ul className="my-2 flex flex-wrap gap-1">
        {dates.map((date) => (
          <li key={date}>
            <Button small onClick={() => set({ dates: dates.filter((d) => d !== date) })}>
              {longDay(date)} <span aria-hidden>×</span>
              <span className="sr-only">take away</span>
            </Button>
          </li>
        ))}
        {!dates.length && <li className="text-ink-2">It has no dates yet.</li>}
      </ul>
      <form
        className="flex items-end gap-1"
        onSubmit={(event) => {
          event.preventDefault();
          put_in(datesThrough(typed, through));
          setTyped("");
          setThrough("");
        }}
      >
        <label htmlFor={id} className="text-xs text-ink-2">
          Another date
          <input
            id={id}
            type="date"
            required
            value={typed}
            onChange={(event) => setTyped(event.target.value)}
            className="block h-7 rounded-[3px] border border-rule-strong bg-raised px-1 text-ink"
          />
        </label>
        <label htmlFor={`${id}-through`} className="text-xs text-ink-2">
          through (optional)
          <input
            id={`${id}-through`}
            type="date"
            min={typed}
            value={through}
            onChange={(event) => setThrough(event.target.value)}
            className="block h-7 rounded-[3px] border border-rule-strong bg-raised px-1 text-ink"
          />
        </label>
        <button
          type="submit"
          className="h-7 rounded-[3px] border border-rule-strong bg-surface px-2 hover:bg-closed"
        >
          Add
        </button>
      </form>
      <div className="mt-2 -ml-1.5">
        <Choices
          lead="Skipped by"
          said={skipping.length ? count(skipping.length, "job") : "no job"}
          values={skipping}
          options={plan.jobs
            .filter((job) => job.schedules.length && !job.locked)
            .map((job) => ({ value: job.id, label: job.name }))}
          onChange={(jobs) => set({ jobs })}
        />
        <span className="text-ink-2">
          These jobs start nothing on the dates: a freeze of chosen jobs.
        </span>
      </div>
      <label className="mt-3 block text-xs text-ink-2" htmlFor={`${id}-file`}>
        Dates from an iCalendar file (.ics)
      </label>
      <input
        id={`${id}-file`}
        type="file"
        accept=".ics,text/calendar"
        onChange={(event) => {
          const file = event.target.files?.[0];
          if (!file) return;
          setProblem(null);
          setIcs(null);
          readIcs(plan.id, file)
            .then(setIcs)
            .catch((error: unknown) => {
              const first = (
                error as { problem?: { errors?: { value: unknown; reason: string }[] } }
              ).problem?.errors?.[0];
              setProblem(
                first ? `${String(first.value)} ${first.reason}` : (error as Error).message,
              );
            });
        }}
      />
      {problem && (
        <p role="alert" className="text-barn">
          {problem}
        </p>
      )}
      {ics?.problems.map((p) => (
        <p key={p.event + p.property} role="alert" className="text-barn">
          {p.event}: {p.property} {p.value && `“${p.value}” `}
          {p.reason}
        </p>
      ))}
      {ics && (
        <div className="mt-2">
          <p>
            {count(ics.dates.length, "date")} in the file,{" "}
            {ics.dates.filter((d) => !dates.includes(d.date)).length} of them new.{" "}
            <Button
              small
              disabled={!ics.dates.length}
              onClick={() => put_in(ics.dates.map((d) => d.date))}
            >
              Take {ics.problems.length ? "the good ones" : "them"}
            </Button>
          </p>
          <ul className="text-ink-2">
            {ics.dates.slice(0, 12).map((d) => (
              <li key={d.date}>
                {longDay(d.date)}: {d.name}
              </li>
            ))}
          </ul>
        </div>
      )}
      <div className="mt-3">{bar}</div>
      {!calendar.used_by.length &&
        (removing ? (
          <Removal
            list="calendars"
            id={calendar.id}
            onKept={() => setRemoving(false)}
            onGone={onGone}
          />
        ) : (
          <Button small onClick={() => setRemoving(true)}>
            Take the calendar away …
          </Button>
        ))}
    </>
  );
}
