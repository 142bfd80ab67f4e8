import { Plus, X } from "lucide-react";
import { useRef, useState } from "react";
import { useWorkbench } from "../../workbench/store";
import { Button } from "../../ui/Button";
import { Choices } from "../../ui/Choice";
import { longDate } from "../../time/time";
import { Field } from "../../ui/Field";
import { count } from "../../ui/words";
import { Flag, Group, Pick } from "../../ui/controls";
import { type Choices as Offered, type RunKind, say } from "../../api/jobQueries";
import { type ScheduleValue } from "../value";
import { CHAINS } from "./choices";
import { localWords } from "./localWords";
import { type Props } from "./props";

const KINDS: RunKind[] = ["full", "incremental", "differential"];

function ScheduleRow({ edit, look, index, offered }: Props & { index: number; offered: Offered }) {
  const { plan, draft, date } = useWorkbench();
  const { value, set } = edit;
  const schedule = value.schedules[index]!;
  const seen = look?.schedules[index];
  const [text, setText] = useState<string | null>(null);
  const [reason, setReason] = useState<string | null>(null);
  const flight = useRef<AbortController | null>(null);
  const replace = (next: ScheduleValue) =>
    set({ schedules: value.schedules.map((s, i) => (i === index ? next : s)) });
  const hear = (typed: string) => {
    setText(typed);
    flight.current?.abort();
    const control = new AbortController();
    flight.current = control;
    say(
      plan.id,
      {
        draft: draft?.id ?? null,
        operations: [],
        text: typed,
        kind: schedule.kind as RunKind,
        day: startDay(schedule) ?? date,
        time_zone: schedule.time_zone,
      },
      control.signal,
    )
      .then((answer) => {
        setReason(answer.reason);
        if (answer.schedule) replace({ ...(answer.schedule as ScheduleValue) });
      })
      .catch(() => undefined);
  };
  return (
    <Group title={`Schedule ${index + 1}`}>
      <div className="flex items-center gap-1">
        <Pick
          label="Kind"
          value={schedule.kind}
          options={KINDS}
          onChange={(kind) => replace({ ...schedule, kind })}
        />
        <span className="flex-1" />
        <button
          type="button"
          aria-label={`Take schedule ${index + 1} away`}
          onClick={() => set({ schedules: value.schedules.filter((_, i) => i !== index) })}
          className="p-1 hover:bg-closed"
        >
          <X size={14} aria-hidden />
        </button>
      </div>
      <Field
        label="When, as you would say it"
        value={text ?? seen?.words ?? ""}
        wrong={reason}
        list="ways to say when"
        onChange={(event) => hear(event.target.value)}
        onBlur={() => !reason && setText(null)}
      />
      {startDay(schedule) && (
        <>
          <Field
            label="Begins on"
            type="date"
            value={startDay(schedule) ?? ""}
            onChange={(event) => {
              if (event.target.validity.valid && event.target.value)
                replace(beginning(schedule, event.target.value));
            }}
          />
          {text !== null && startDay(schedule) !== date && (
            <p className="mb-2">
              It still begins on {longDate(startDay(schedule)!)}.{" "}
              <Button small onClick={() => replace(beginning(schedule, date))}>
                Begin on {longDate(date)}
              </Button>
            </p>
          )}
        </>
      )}
      {seen?.a_day != null && <p className="mb-1 text-ink-2">{count(seen.a_day, "run")} a day</p>}
      <Choices
        lead="Not on"
        said={((schedule["skip"] as string[] | undefined) ?? []).join(", ") || "no calendar"}
        values={(schedule["skip"] as string[] | undefined) ?? []}
        options={offered.calendars.map((c) => ({ value: c, label: c }))}
        onChange={(skip) => replace({ ...schedule, skip })}
      />
      {((schedule["skip"] as string[] | undefined) ?? []).length > 0 && (
        <Pick
          label="What falls there"
          value={String(schedule["when_skipped"] ?? "drop")}
          options={[
            { value: "drop", label: "is dropped" },
            { value: "next_day", label: "moves to the next free day" },
          ]}
          onChange={(v) => replace({ ...schedule, when_skipped: v })}
        />
      )}
      <Pick
        label="Zone"
        value={schedule.time_zone}
        options={[...new Set([...offered.time_zones, schedule.time_zone])]}
        onChange={(time_zone) => replace({ ...schedule, time_zone })}
      />
      {seen && seen.upcoming.length > 0 && (
        <ol aria-label={`Next occurrences of schedule ${index + 1}`} className="text-xs">
          {seen.upcoming.map((entry) => (
            <li
              key={`${entry.at} ${entry.note}`}
              className={entry.kind ? "" : "text-ink-2 line-through decoration-1"}
            >
              {localWords(entry.local)}{" "}
              {entry.note && <span className="no-underline">{entry.note}</span>}
            </li>
          ))}
        </ol>
      )}
    </Group>
  );
}

function startDay(schedule: ScheduleValue): string | null {
  const start = schedule["start"];
  return typeof start === "string" ? start.slice(0, 10) : null;
}

/** A schedule that begins on another day, at the same time of day. */
function beginning(schedule: ScheduleValue, day: string): ScheduleValue {
  return { ...schedule, start: day + String(schedule["start"]).slice(10) };
}

export function RunsEditor({ edit, look, offered }: Props & { offered: Offered }) {
  const { value, set, wrong } = edit;
  const { plan, date } = useWorkbench();
  const after = (value["after"] as string | null) ?? "";
  const zone = value.schedules[0]?.time_zone ?? plan.time_zone;
  const add = () =>
    set({
      after: null,
      schedules: [
        ...value.schedules,
        {
          kind: value.schedules.length ? "full" : "incremental",
          rrule: "FREQ=WEEKLY;BYDAY=SA",
          start: `${date}T21:00`,
          time_zone: zone,
        },
      ],
    });
  return (
    <>
      <datalist id="ways to say when">
        {[
          "every day at 20:00",
          "every weekday at 20:00",
          "every day but Saturday at 20:00",
          "on Saturday at 21:00",
          "on the second Saturday of the month at 21:00",
          "on the last weekday of the month at 22:00",
          "every 2 weeks on Saturday at 21:00",
          "every 20 minutes from 06:10 to 05:40",
          "every 4 hours on weekdays",
          `once on ${date} at 22:00`,
        ].map((way) => (
          <option key={way} value={way} />
        ))}
      </datalist>
      {wrong("schedules") && (
        <p role="alert" className="text-barn">
          {wrong("schedules")}
        </p>
      )}
      {!after &&
        value.schedules.map((_, i) => (
          <ScheduleRow key={i} index={i} edit={edit} look={look} offered={offered} />
        ))}
      {!after && (
        <Button small onClick={add}>
          <Plus size={12} aria-hidden />{" "}
          {value.schedules.length
            ? "Another schedule"
            : "A schedule; without one it runs on demand only"}
        </Button>
      )}
      <Group title="Or after another job">
        <Pick
          label="Runs"
          value={after}
          options={[
            { value: "", label: "by its own schedules" },
            ...offered.jobs
              .filter((j) => j["id"] !== value.id)
              .map((j) => ({ value: String(j["id"]), label: `after ${String(j["name"])}` })),
          ]}
          onChange={(v) => set(v ? { after: v, schedules: [] } : { after: null })}
        />
        {wrong("after") && (
          <p role="alert" className="text-barn">
            {wrong("after")}
          </p>
        )}
      </Group>
      <Group title="Fulls and changes">
        <Pick
          label="Chain"
          value={String(value["chain"])}
          options={CHAINS}
          onChange={(v) => set({ chain: v })}
        />
        <Flag
          label="Fulls are made in the repository (synthetic)"
          value={Boolean(value["synthetic_full"])}
          onChange={(v) => set({ synthetic_full: v })}
        />
        <Flag
          label="Changed blocks are tracked"
          value={Boolean(value["tracking"])}
          onChange={(v) => set({ tracking: v })}
        />
      </Group>
      <Group title="On hold">
        <Flag
          label="It does not run for now"
          value={Boolean(value["on_hold"])}
          onChange={(v) => set({ on_hold: v, ...(!v && { hold_until: null }) })}
        />
        {Boolean(value["on_hold"]) && (
          <Field
            label="Until (empty: until somebody lets it run)"
            type="date"
            value={String(value["hold_until"] ?? "")}
            onChange={(e) => set({ hold_until: e.target.value || null })}
          />
        )}
      </Group>
    </>
  );
}
