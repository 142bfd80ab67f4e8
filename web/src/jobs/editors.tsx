import { useQuery } from "@tanstack/react-query";
import { ArrowDown, ArrowUp, Plus, X } from "lucide-react";
import { type ReactNode, useEffect, useRef, useState } from "react";
import { useWorkbench } from "../workbench/workbench";
import { Button } from "../ui/Button";
import { Choice, Choices } from "../ui/Choice";
import { Field } from "../ui/Field";
import { typedNumber } from "../ui/numbers";
import { count } from "../ui/words";
import { Flag, Group, NumberField, Pick } from "../ui/controls";
import {
  choicesQuery,
  type Choices as Offered,
  type Look,
  type RunKind,
  say,
} from "../api/jobQueries";
import {
  type Condition,
  type CopyValue,
  excluding,
  firstCondition,
  including,
  moved,
  NO_RETENTION,
  type Retention,
  retentionOf,
  type ScheduleValue,
  selectionOf,
} from "./value";
import type { JobEdit } from "./useJobEdit";

interface Props {
  edit: JobEdit;
  look: Look | undefined;
}

const TITLES: Record<string, string> = {
  machines: "What is backed up",
  to: "Where to",
  runs: "When, and in which kind",
  window: "Inside which window",
  readers: "Who reads it",
  kept: "How long it is kept",
  check: "How it is checked",
  copies: "Where it is copied",
  preparation: "How machines are prepared",
  reduction: "What is sent",
  rank: "Name and rank",
  limits: "Limits of its own",
  notices: "Who is told",
};
export const titleOf = (clause: string) => TITLES[clause] ?? clause;

const EDITORS: Record<string, (props: Props & { offered: Offered }) => ReactNode> = {
  machines: MachinesEditor,
  to: ToEditor,
  runs: RunsEditor,
  window: WindowEditor,
  readers: ReadersEditor,
  kept: KeptEditor,
  check: CheckEditor,
  copies: CopiesEditor,
  preparation: PreparationEditor,
  reduction: ReductionEditor,
  rank: RankEditor,
  limits: LimitsEditor,
  notices: NoticesEditor,
};

/** The small editor of one clause. The first field takes the focus. */
export function ClauseEditor({ clause, edit, look }: Props & { clause: string }) {
  const { plan, draft } = useWorkbench();
  const offered = useQuery(choicesQuery(plan, draft));
  const frame = useRef<HTMLDivElement>(null);
  const ready = Boolean(offered.data);
  useEffect(() => {
    if (ready)
      frame.current
        ?.querySelector<HTMLElement>("input:not([type=checkbox]), button, input")
        ?.focus();
  }, [clause, ready]);
  if (!offered.data) return <p role="status">Reading what there is …</p>;
  const Editor = EDITORS[clause] ?? RankEditor;
  const problems = look?.problems.filter((p) => p.clause === clause) ?? [];
  return (
    <div ref={frame}>
      {problems.map((problem) => (
        <p
          key={problem.words}
          className={
            problem.weight === "stops" ? "mb-2 font-medium text-barn" : "mb-2 text-hay-text"
          }
        >
          {problem.weight === "stops" ? "✕" : "▲"} {problem.words}
        </p>
      ))}
      <Editor edit={edit} look={look} offered={offered.data} />
    </div>
  );
}

const FIELD_WORDS: Record<string, string> = {
  used_gib: "used GiB",
  provisioned_gib: "provisioned GiB",
  powered_on: "powered on",
  only_swap: "nothing but swap",
  holds_backups: "holds backups",
  disk: "called",
};
const said = (word: string) => FIELD_WORDS[word] ?? word.replaceAll("_", " ");

function ConditionRow({
  condition,
  fields,
  values,
  added,
  onChange,
  onRemove,
}: {
  condition: Condition;
  /** Whether it was added just now: its value is what is typed next. */
  added: boolean;
  fields: Record<string, string[]>;
  values: Record<string, unknown>;
  onChange: (condition: Condition) => void;
  onRemove: () => void;
}) {
  const flag = typeof condition.value === "boolean";
  const number = condition.field.endsWith("_gib");
  const list = `values of ${condition.field}`;
  const offered = (values[condition.field] as string[] | undefined) ?? [];
  const [text, setText] = useState<string | null>(null);
  return (
    <div className="mb-1 flex items-center gap-1">
      <Choice
        lead=""
        value={condition.field}
        options={Object.keys(fields).map((f) => ({ value: f, label: said(f) }))}
        onChange={(f) => {
          setText(null);
          onChange(firstCondition(f, fields));
        }}
      />
      {!flag && (
        <Choice
          lead=""
          value={condition.op}
          options={(fields[condition.field] ?? []).map((o) => ({ value: o, label: said(o) }))}
          onChange={(op) => onChange({ ...condition, op })}
        />
      )}
      {flag ? (
        <Choice
          lead="is"
          value={String(condition.value)}
          options={[
            { value: "true", label: "yes" },
            { value: "false", label: "no" },
          ]}
          onChange={(v) => onChange({ ...condition, value: v === "true" })}
        />
      ) : (
        <>
          <input
            aria-label={`Value for ${said(condition.field)}`}
            autoFocus={added}
            onFocus={(event) => event.target.select()}
            list={offered.length ? list : undefined}
            value={text ?? String(condition.value)}
            onChange={(event) => {
              setText(event.target.value);
              const typed = number ? typedNumber(event.target.value) : event.target.value;
              // An empty field and one that holds no number say nothing yet.
              if (typed !== "" && !Number.isNaN(typed)) onChange({ ...condition, value: typed });
            }}
            className="h-7 min-w-0 flex-1 rounded-[3px] border border-rule-strong bg-raised px-1.5"
          />
          {offered.length > 0 && (
            <datalist id={list}>
              {offered.map((v) => (
                <option key={v} value={v} />
              ))}
            </datalist>
          )}
        </>
      )}
      <button
        type="button"
        aria-label={`Take away the condition on ${said(condition.field)}`}
        onClick={onRemove}
        className="p-1 hover:bg-closed"
      >
        <X size={14} aria-hidden />
      </button>
    </div>
  );
}

function MachinesEditor({ edit, look, offered }: Props & { offered: Offered }) {
  const { value, set, wrong } = edit;
  const selection = selectionOf(value);
  const [name, setName] = useState("");
  const [added, setAdded] = useState<string | null>(null);
  const fields = offered.fields as Record<string, string[]>;
  const disks = offered.disk_fields as Record<string, string[]>;
  const values = offered.values as Record<string, unknown>;
  const put = (next: Partial<typeof selection>) => set({ machines: { ...selection, ...next } });
  const rule = (i: number, conditions: Condition[]) =>
    put({
      rules: selection.rules.map((r, at) => (at === i ? conditions : r)).filter((r) => r.length),
    });
  const diskRules = value.exclude_disk_rules;
  return (
    <>
      <p className="mb-2 text-ink-2" role="status">
        {look ? `${count(look.machines, "machine")} now.` : ""} {look?.joins}
      </p>
      {selection.rules.map((conditions, i) => (
        <Group key={i} title={i ? "or all of" : "All of"}>
          {conditions.map((condition, at) => (
            <ConditionRow
              key={`${condition.field} ${at}`}
              condition={condition}
              added={added === `${i} ${at}`}
              fields={fields}
              values={values}
              onChange={(next) =>
                rule(
                  i,
                  conditions.map((c, n) => (n === at ? next : c)),
                )
              }
              onRemove={() =>
                rule(
                  i,
                  conditions.filter((_, n) => n !== at),
                )
              }
            />
          ))}
          <Button
            small
            look="plain"
            onClick={() => {
              setAdded(`${i} ${conditions.length}`);
              rule(i, [
                ...conditions,
                { field: "tag", op: "has", value: (values["tag"] as string[])[0] ?? "gold" },
              ]);
            }}
          >
            <Plus size={12} aria-hidden /> and
          </Button>
        </Group>
      ))}
      <Button
        small
        onClick={() => {
          setAdded(`${selection.rules.length} 0`);
          put({
            rules: [
              ...selection.rules,
              [{ field: "folder", op: "is", value: (values["folder"] as string[])[0] ?? "folder" }],
            ],
          });
        }}
      >
        <Plus size={12} aria-hidden /> {selection.rules.length ? "Or another rule" : "A rule"}
      </Button>
      <Group title="By name">
        <form
          className="mb-1 flex gap-1"
          onSubmit={(event) => {
            event.preventDefault();
            if (name.trim()) set({ machines: including(selection, name.trim()) });
            setName("");
          }}
        >
          <input
            aria-label="Machine to take in"
            placeholder="name of a machine"
            value={name}
            onChange={(event) => setName(event.target.value)}
            className="h-7 min-w-0 flex-1 rounded-[3px] border border-rule-strong bg-raised px-1.5"
          />
          <Button type="submit" disabled={!name.trim()}>
            Take in
          </Button>
        </form>
        {wrong("machines") && (
          <p role="alert" className="text-barn">
            {wrong("machines")}
          </p>
        )}
        <ol aria-label="Machines by name, in order">
          {selection.ids.map((id, i) => (
            <li
              key={id}
              draggable
              onDragStart={(event) => event.dataTransfer.setData("text/plain", String(i))}
              onDragOver={(event) => event.preventDefault()}
              onDrop={(event) => {
                event.preventDefault();
                put({
                  ids: moved(selection.ids, Number(event.dataTransfer.getData("text/plain")), i),
                });
              }}
              className="flex items-center gap-1 hover:bg-closed"
            >
              <span className="flex-1 cursor-grab truncate font-mono text-xs">{id}</span>
              <button
                type="button"
                aria-label={`${id} earlier`}
                disabled={!i}
                onClick={() => put({ ids: moved(selection.ids, i, i - 1) })}
                className="p-0.5 disabled:opacity-30"
              >
                <ArrowUp size={13} aria-hidden />
              </button>
              <button
                type="button"
                aria-label={`${id} later`}
                disabled={i === selection.ids.length - 1}
                onClick={() => put({ ids: moved(selection.ids, i, i + 1) })}
                className="p-0.5 disabled:opacity-30"
              >
                <ArrowDown size={13} aria-hidden />
              </button>
              <button
                type="button"
                aria-label={`Take ${id} out`}
                onClick={() => set({ machines: excluding(selection, id, true) })}
                className="p-0.5"
              >
                <X size={13} aria-hidden />
              </button>
            </li>
          ))}
        </ol>
        {selection.exclude.length > 0 && (
          <>
            <p className="mt-1 text-ink-2">Left out by name</p>
            <ul>
              {selection.exclude.map((id) => (
                <li key={id} className="flex items-center gap-1">
                  <span className="flex-1 truncate font-mono text-xs line-through">{id}</span>
                  <button
                    type="button"
                    aria-label={`Take ${id} in again`}
                    onClick={() => put({ exclude: selection.exclude.filter((x) => x !== id) })}
                    className="p-0.5"
                  >
                    <Plus size={13} aria-hidden />
                  </button>
                </li>
              ))}
            </ul>
          </>
        )}
      </Group>
      <Group title="In which order">
        <Pick
          label="What rules select comes"
          value={String(value["machine_order"])}
          options={[
            { value: "listed", label: "as the estate has it" },
            { value: "largest", label: "the largest first" },
            { value: "smallest", label: "the smallest first" },
            { value: "name", label: "by name" },
          ]}
          onChange={(v) => set({ machine_order: v })}
        />
      </Group>
      <Group title="Without these disks">
        {diskRules.map((condition, i) => (
          <ConditionRow
            key={`${condition.field} ${i}`}
            condition={condition}
            added={added === `disk ${i}`}
            fields={disks}
            values={values}
            onChange={(next) =>
              set({ exclude_disk_rules: diskRules.map((c, n) => (n === i ? next : c)) })
            }
            onRemove={() => set({ exclude_disk_rules: diskRules.filter((_, n) => n !== i) })}
          />
        ))}
        <span className="flex flex-wrap gap-1">
          {[
            { words: "swap disks", rule: { field: "only_swap", op: "is", value: true } },
            {
              words: "disks that hold backups",
              rule: { field: "holds_backups", op: "is", value: true },
            },
            { words: "disks called …", rule: { field: "disk", op: "contains", value: "log" } },
          ].map(({ words, rule: made }) => (
            <Button
              key={words}
              small
              onClick={() => {
                setAdded(`disk ${diskRules.length}`);
                set({ exclude_disk_rules: [...diskRules, made] });
              }}
            >
              <Plus size={12} aria-hidden /> {words}
            </Button>
          ))}
        </span>
        {value.exclude_disks.length > 0 && (
          <ul className="mt-1">
            {value.exclude_disks.map(([machine, disk]) => (
              <li key={`${machine} ${disk}`} className="flex items-center gap-1">
                <span className="flex-1 truncate font-mono text-xs">
                  {machine}, {disk}
                </span>
                <button
                  type="button"
                  aria-label={`Take disk ${disk} of ${machine} in again`}
                  onClick={() =>
                    set({
                      exclude_disks: value.exclude_disks.filter(
                        ([m, d]) => m !== machine || d !== disk,
                      ),
                    })
                  }
                >
                  <X size={13} aria-hidden />
                </button>
              </li>
            ))}
          </ul>
        )}
      </Group>
      <PathsLeftOut edit={edit} look={look} />
    </>
  );
}

function PathsLeftOut({ edit, look }: Props) {
  const { value, set, wrong } = edit;
  const [made, setMade] = useState({ machine: "", disk: "", path: "", gib: "" });
  const disks = look?.selected.find((m) => m.machine === made.machine)?.disks ?? [];
  const gib = typedNumber(made.gib);
  const ready = made.machine && made.disk && made.path && gib >= 0;
  return (
    <Group title="Without these paths">
      {value.exclude_paths.map((path, i) => (
        <p key={i} className="flex items-center gap-1 text-xs">
          <span className="flex-1 truncate font-mono">
            {path.machine} {path.disk} {path.path}
          </span>{" "}
          {path.gib} GiB
          <button
            type="button"
            aria-label={`Take ${path.path} in again`}
            onClick={() => set({ exclude_paths: value.exclude_paths.filter((_, n) => n !== i) })}
          >
            <X size={13} aria-hidden />
          </button>
        </p>
      ))}
      {wrong("exclude_paths") && (
        <p role="alert" className="text-barn">
          {wrong("exclude_paths")}
        </p>
      )}
      <Pick
        label="Machine"
        value={made.machine}
        options={(look?.selected ?? []).map((m) => m.machine)}
        onChange={(machine) => setMade({ ...made, machine, disk: "" })}
      />
      {disks.length > 0 && (
        <Pick
          label="Disk"
          value={made.disk}
          options={disks}
          onChange={(disk) => setMade({ ...made, disk })}
        />
      )}
      <div className="flex gap-1">
        <div className="flex-1">
          <Field
            label="Path"
            value={made.path}
            placeholder="/var/cache"
            onChange={(e) => setMade({ ...made, path: e.target.value })}
          />
        </div>
        <div className="w-20">
          <Field
            label="GiB there"
            inputMode="decimal"
            value={made.gib}
            onChange={(e) => setMade({ ...made, gib: e.target.value })}
          />
        </div>
      </div>
      <Button
        small
        disabled={!ready}
        onClick={() => {
          set({ exclude_paths: [...value.exclude_paths, { ...made, gib }] });
          setMade({ machine: "", disk: "", path: "", gib: "" });
        }}
      >
        <Plus size={12} aria-hidden /> Leave the path out
      </Button>
    </Group>
  );
}

function ToEditor({ edit, look, offered }: Props & { offered: Offered }) {
  return (
    <>
      <Pick
        label="Repository"
        value={edit.value.repository}
        options={offered.repositories}
        onChange={(v) => edit.set({ repository: v })}
      />
      {edit.wrong("repository") && (
        <p role="alert" className="text-barn">
          {edit.wrong("repository")}
        </p>
      )}
      <p className="text-ink-2">
        {look?.points_before
          ? `It goes on from ${count(look.points_before, "restore point")} that exist; in another repository it begins with a full.`
          : "No points of it exist yet: each machine begins with a full."}
      </p>
      <p className="mt-2 text-ink-2">
        Some machines elsewhere: split the job, and give a part another repository.
      </p>
    </>
  );
}

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

/**
 * "2026-11-06T21:00" as "Fri 6 Nov 21:00": a wall-clock time as it is, in no zone of the
 * browser's.
 */
export function localWords(local: string): string {
  const at = new Date(`${local}:00Z`);
  const date = at.toLocaleDateString("en-GB", {
    weekday: "short",
    day: "numeric",
    month: "short",
    timeZone: "UTC",
  });
  return `${date.replace(",", "")} ${local.slice(11, 16)}`;
}

function RunsEditor({ edit, look, offered }: Props & { offered: Offered }) {
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
          options={[
            { value: "incremental", label: "fulls and incrementals" },
            { value: "differential", label: "fulls and differentials" },
            { value: "forever", label: "one full for ever" },
            { value: "full_only", label: "always full" },
          ]}
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

function WindowEditor({ edit, offered }: Props & { offered: Offered }) {
  const { value, set } = edit;
  return (
    <>
      <Pick
        label="Window"
        value={(value["window"] as string | null) ?? ""}
        options={[{ value: "", label: "none: at any hour" }, ...offered.windows]}
        onChange={(v) => set({ window: v || null })}
      />
      <Pick
        label="At its end"
        value={String(value["at_window_end"])}
        options={[
          { value: "stop", label: "what runs is stopped" },
          { value: "finish", label: "what has begun may finish" },
          { value: "run_on", label: "it runs on" },
        ]}
        onChange={(v) => set({ at_window_end: v })}
      />
      <NumberField
        label="Must start within"
        unit="min"
        value={value["start_within_min"] as number | null}
        empty="whenever it can"
        wrong={edit.wrong("start_within_min")}
        onChange={(v) => set({ start_within_min: v })}
      />
      <NumberField
        label="Is stopped after"
        unit="min"
        value={value["stop_after_min"] as number | null}
        empty="never"
        wrong={edit.wrong("stop_after_min")}
        onChange={(v) => set({ stop_after_min: v })}
      />
    </>
  );
}

function ReadersEditor({ edit, offered }: Props & { offered: Offered }) {
  const { value, set } = edit;
  return (
    <>
      <Choices
        lead="Read by"
        said={value.proxies ? value.proxies.join(", ") || "no proxy" : "any proxy"}
        values={value.proxies ?? []}
        options={offered.proxies.map((p) => ({ value: p, label: p }))}
        onChange={(v) => set({ proxies: v.length ? v : null })}
      />
      <Pick
        label="Transport"
        value={String(value["transport"])}
        options={[
          { value: "auto", label: "the best of each disk" },
          { value: "direct", label: "direct from storage only" },
          { value: "hot_add", label: "hot-add only" },
          { value: "network", label: "network only" },
        ]}
        onChange={(v) => set({ transport: v })}
      />
      <p className="text-ink-2">
        Servers are read by their agent. Paths, Reach shows why a proxy serves a machine.
      </p>
    </>
  );
}

/** The spans of a retention; empty everywhere keeps everything. */
export function RetentionFields({
  value,
  wrong,
  onChange,
}: {
  value: Retention;
  wrong: string | null;
  onChange: (value: Retention) => void;
}) {
  const one = (key: Exclude<keyof Retention, "until">, label: string, unit?: string) => (
    <NumberField
      key={key}
      label={label}
      {...(unit && { unit })}
      value={value[key] || null}
      empty="–"
      onChange={(v) => onChange({ ...value, [key]: v ?? NO_RETENTION[key] })}
    />
  );
  return (
    <>
      <div className="grid grid-cols-2 gap-x-3">
        {one("points", "Newest points")}
        {one("days", "All younger than", "days")}
        {one("full_days", "Fulls younger than", "days")}
        {one("incremental_days", "The rest younger than", "days")}
        {one("weekly", "First full of a week", "weeks")}
        {one("monthly", "of a month", "months")}
        {one("yearly", "of a year", "years")}
        <Field
          label="Everything until (date)"
          type="date"
          value={value.until ?? ""}
          onChange={(e) => onChange({ ...value, until: e.target.value || null })}
        />
      </div>
      {wrong && (
        <p role="alert" className="mb-2 text-barn">
          {wrong}
        </p>
      )}
      <p className="mb-2 text-ink-2">
        Any rule that wants a point keeps it; with none, everything is kept. Until the date nothing
        is deleted. The picture of the points shows what holds what.
      </p>
    </>
  );
}

function KeptEditor({ edit }: Props) {
  return (
    <RetentionFields
      value={retentionOf(edit.value.retention)}
      wrong={edit.wrong("retention")}
      onChange={(v) => edit.set({ retention: v })}
    />
  );
}

function CheckEditor({ edit }: Props) {
  const { value, set } = edit;
  return (
    <>
      <Pick
        label="Checked by"
        value={String(value["verify"])}
        options={[
          { value: "none", label: "nothing" },
          { value: "checksum", label: "a checksum" },
          { value: "boot", label: "a boot test" },
        ]}
        onChange={(v) => set({ verify: v })}
      />
      {value["verify"] === "boot" && (
        <NumberField
          label="A boot test takes"
          unit="min"
          value={value["boot_min"] as number}
          wrong={edit.wrong("boot_min")}
          onChange={(v) => v !== null && set({ boot_min: v })}
        />
      )}
      <p className="text-ink-2">
        Checking is part of the run: its minutes stand in the week above.
      </p>
    </>
  );
}

function CopiesEditor({ edit, offered }: Props & { offered: Offered }) {
  const { value, set, wrong } = edit;
  const copies = value.copies;
  const change = (i: number, next: CopyValue) =>
    set({ copies: copies.map((c, n) => (n === i ? next : c)) });
  const free = offered.repositories.filter((r) => r !== value.repository);
  return (
    <>
      {wrong("copies") && (
        <p role="alert" className="text-barn">
          {wrong("copies")}
        </p>
      )}
      {copies.map((copy, i) => (
        <Group key={i} title={`Copy ${i + 1}`}>
          <div className="flex items-center">
            <Pick
              label="To"
              value={copy.repository}
              options={free}
              onChange={(repository) => change(i, { ...copy, repository })}
            />
            <span className="flex-1" />
            <button
              type="button"
              aria-label={`Take copy ${i + 1} away`}
              onClick={() => set({ copies: copies.filter((_, n) => n !== i) })}
              className="p-1 hover:bg-closed"
            >
              <X size={14} aria-hidden />
            </button>
          </div>
          <NumberField
            label="Begins after"
            unit="min"
            value={copy.delay_min ?? 0}
            onChange={(v) => change(i, { ...copy, delay_min: v ?? 0 })}
          />
          <RetentionFields
            value={retentionOf(copy.retention)}
            wrong={null}
            onChange={(retention) => change(i, { ...copy, retention })}
          />
          <NumberField
            label="To the colder tier after"
            unit="days"
            empty="never"
            value={copy.cold_after_days ?? null}
            onChange={(cold_after_days) => change(i, { ...copy, cold_after_days })}
          />
        </Group>
      ))}
      <Button
        small
        disabled={!free.length}
        onClick={() =>
          set({
            copies: [...copies, { repository: free[0]!, delay_min: 0, retention: { days: 30 } }],
          })
        }
      >
        <Plus size={12} aria-hidden /> {copies.length ? "Another copy" : "A copy"}
      </Button>
    </>
  );
}

function PreparationEditor({ edit }: Props) {
  const { value, set } = edit;
  const num = (key: string, label: string, unit: string) => (
    <NumberField
      key={key}
      label={label}
      unit={unit}
      value={value[key] as number}
      wrong={edit.wrong(key)}
      onChange={(v) => set({ [key]: v ?? 0 })}
    />
  );
  return (
    <>
      <Group title="Each machine">
        {num("guest_before_s", "Steps in the guest before", "s")}
        {num("quiesce_s", "Quiescing takes", "s")}
        <Pick
          label="Where it cannot be quiesced, it is"
          value={String(value["if_quiesce_fails"])}
          options={[
            { value: "as it is", label: "taken as it is" },
            { value: "standstill", label: "halted for a moment" },
            { value: "leave out", label: "left out" },
          ]}
          onChange={(v) => set({ if_quiesce_fails: v })}
        />
        <Pick
          label="Instead of a live snapshot"
          value={String(value["standstill"])}
          options={[
            { value: "none", label: "nothing: it runs on" },
            { value: "pause", label: "it is paused" },
            { value: "stop", label: "it is stopped" },
          ]}
          onChange={(v) => set({ standstill: v })}
        />
        {num("standstill_s", "Halting takes", "s")}
        {num("guest_after_s", "Steps in the guest after, such as truncating logs", "s")}
      </Group>
      <Group title="The whole run">
        {num("before_min", "Before the first machine", "min")}
        {num("after_min", "After the last machine", "min")}
      </Group>
    </>
  );
}

function ReductionEditor({ edit }: Props) {
  const { value, set } = edit;
  const flag = (key: string, label: string) => (
    <Flag key={key} label={label} value={Boolean(value[key])} onChange={(v) => set({ [key]: v })} />
  );
  return (
    <>
      {flag("compress", "Compressed")}
      {flag("skip_swap", "Swap is left out")}
      {flag("skip_unused", "Unused blocks are left out")}
      {flag("encrypt", "Encrypted")}
      {Boolean(value["encrypt"]) && (
        <NumberField
          label="Encrypting leaves of a stream's speed"
          unit="%"
          value={Math.round(Number(value["encrypt_factor"]) * 1000) / 10}
          wrong={edit.wrong("encrypt_factor")}
          onChange={(v) => v !== null && set({ encrypt_factor: v / 100 })}
        />
      )}
    </>
  );
}

function RankEditor({ edit }: Props) {
  const { value, set } = edit;
  return (
    <>
      <Field
        label="Name of the job"
        value={value.name}
        wrong={edit.wrong("name")}
        onChange={(e) => set({ name: e.target.value })}
      />
      <Pick
        label="Priority"
        value={String(value["priority"])}
        options={["1", "2", "3", "4", "5"].map((p) => ({
          value: p,
          label: p === "1" ? "1, the last" : p === "5" ? "5, the first" : p,
        }))}
        onChange={(v) => set({ priority: Number(v) })}
      />
      <NumberField
        label="Share where streams compete"
        value={value["share"] as number}
        wrong={edit.wrong("share")}
        onChange={(v) => v !== null && set({ share: v })}
      />
    </>
  );
}

function LimitsEditor({ edit }: Props) {
  const { value, set } = edit;
  return (
    <>
      <NumberField
        label="Streams at once"
        value={value["max_streams"] as number | null}
        empty="no limit"
        wrong={edit.wrong("max_streams")}
        onChange={(v) => set({ max_streams: v })}
      />
      <NumberField
        label="Bandwidth"
        unit="Mbit/s"
        value={value["limit_mbit_per_s"] as number | null}
        empty="no limit"
        wrong={edit.wrong("limit_mbit_per_s")}
        onChange={(v) => set({ limit_mbit_per_s: v })}
      />
    </>
  );
}

function NoticesEditor({ edit }: Props) {
  const { value, set } = edit;
  const [text, setText] = useState<string | null>(null);
  return (
    <>
      <Pick
        label="Told"
        value={String(value["notify"])}
        options={[
          { value: "never", label: "nobody" },
          { value: "trouble", label: "on trouble only" },
          { value: "always", label: "after every run" },
        ]}
        onChange={(v) => set({ notify: v })}
      />
      <Field
        label="Whom, separated by commas"
        value={text ?? value.notify_to.join(", ")}
        wrong={edit.wrong("notify_to")}
        onChange={(e) => {
          setText(e.target.value);
          set({
            notify_to: [
              ...new Set(
                e.target.value
                  .split(",")
                  .map((x) => x.trim())
                  .filter(Boolean),
              ),
            ],
          });
        }}
      />
    </>
  );
}
