import { useQuery } from "@tanstack/react-query";
import { useEffect, useMemo, useRef, useState } from "react";
import type { Operation } from "../api/client";
import { operationsOf } from "../workbench/moves";
import { changedNights } from "../workbench/changedNights";
import { useDiscardOnLeave } from "../workbench/considering";
import { useWorkbench } from "../workbench/store";
import { Button } from "../ui/Button";
import { Sheet } from "../ui/Sheet";
import { count } from "../ui/words";
import { Group, NumberField, Pick } from "../ui/controls";
import { betweenCommas, CHAINS, NOTICES, VERIFIES, WINDOW_ENDS } from "../sentence/editors/choices";
import { CopyFields, firstCopy } from "../sentence/editors/copies";
import { RetentionFields } from "../sentence/editors/kept";
import {
  type Choices as Offered,
  choicesQuery,
  type JobRow,
  type RunKind,
  say,
} from "../api/jobQueries";
import { Field } from "../ui/Field";
import {
  changeJob,
  type CopyValue,
  NO_RETENTION,
  type Retention,
  type ScheduleValue,
} from "../sentence/value";

const SAME = { value: "", label: "as it is" };
const NO_SCHEDULES: ScheduleValue[] = [];
const YES_NO = [
  { value: "true", label: "yes" },
  { value: "false", label: "no" },
];

interface BulkPick {
  label: string;
  /** The key of the job that it sets. */
  key: string;
  options: readonly (string | { value: string; label: string })[];
  /** The value behind an option, where that is no text. */
  typed?: (option: string) => unknown;
}

/** An option as the text that a list knows it by. */
const said = (value: unknown) => (typeof value === "string" ? value : JSON.stringify(value));
const json = (option: string): unknown => JSON.parse(option);

/** Keys that get one value for all chosen jobs. */
const picksOf = (offered: Offered | undefined): BulkPick[] => [
  { label: "Priority", key: "priority", options: ["1", "2", "3", "4", "5"], typed: json },
  { label: "Window", key: "window", options: offered?.windows ?? [] },
  { label: "At its end", key: "at_window_end", options: WINDOW_ENDS },
  { label: "Repository", key: "repository", options: offered?.repositories ?? [] },
  { label: "Checked by", key: "verify", options: VERIFIES },
  {
    label: "Read by",
    key: "proxies",
    options: [
      { value: "null", label: "any proxy" },
      ...(offered?.proxies ?? []).map((p) => ({ value: JSON.stringify([p]), label: p })),
    ],
    typed: json,
  },
  { label: "On hold", key: "on_hold", options: YES_NO, typed: json },
  { label: "Chain", key: "chain", options: CHAINS },
  { label: "Fulls made in the repository", key: "synthetic_full", options: YES_NO, typed: json },
  { label: "Encrypted", key: "encrypt", options: YES_NO, typed: json },
];

/** Values of several jobs at once: only what is chosen changes, and the week shows it first. */
export function BulkSheet({
  jobs,
  onClose,
  onDone,
}: {
  jobs: readonly JobRow[];
  onClose: () => void;
  onDone: () => void;
}) {
  const {
    plan,
    draft,
    consider,
    considered,
    refused,
    put,
    busy,
    week,
    savedWeek,
    words,
    jobs: known,
  } = useWorkbench();
  const offered = useQuery(choicesQuery(plan, draft));
  const [changes, setChanges] = useState<Record<string, unknown>>({});
  const [minutes, setMinutes] = useState(0);
  const [retention, setRetention] = useState<Retention | null>(null);
  const [copy, setCopy] = useState<CopyValue | "none" | null>(null);
  const [people, setPeople] = useState("");
  const free = useMemo(() => jobs.filter((job) => !job.locked), [jobs]);
  const operations = useMemo<Operation[]>(() => {
    const copies = copy === null ? null : copy === "none" ? [] : [copy];
    const all = { ...changes, ...(retention && { retention }), ...(copies && { copies }) };
    const edits = Object.keys(all).length ? free.map((job) => changeJob(job.id, all)) : [];
    const moves = minutes
      ? free.flatMap((job) =>
          (known.get(job.id)?.schedules ?? []).map((s) => ({
            type: "start" as const,
            job: job.id,
            schedule: s.position,
            minutes,
          })),
        )
      : [];
    return [...edits, ...operationsOf(moves, known)];
  }, [changes, copy, free, known, minutes, retention]);
  const key = JSON.stringify(operations);
  useEffect(() => consider(JSON.parse(key) as Operation[]), [consider, key]);
  useDiscardOnLeave();
  const pick = (field: string, value: unknown) =>
    setChanges((now) =>
      value === ""
        ? Object.fromEntries(Object.entries(now).filter(([k]) => k !== field))
        : { ...now, [field]: value },
    );
  const picks = picksOf(offered.data);
  const locked = jobs.length - free.length;
  const lines = changedNights(savedWeek, week, plan.time_zone);
  return (
    <Sheet label="Several jobs" title={`${count(jobs.length, "job")} together`} onClose={onClose}>
      <p className="mb-2 text-ink-2">
        {jobs
          .slice(0, 4)
          .map((j) => j.name)
          .join(", ")}
        {jobs.length > 4 && ` and ${jobs.length - 4} more`}
      </p>
      {locked > 0 && (
        <p className="mb-2 text-hay-text">
          {count(locked, "locked job")} {locked === 1 ? "stays" : "stay"} as{" "}
          {locked === 1 ? "it is" : "they are"}.
        </p>
      )}
      {picks.map(({ label, key, options, typed }) => (
        <Pick
          key={key}
          label={label}
          value={key in changes ? said(changes[key]) : ""}
          options={[SAME, ...options]}
          onChange={(v) => pick(key, v === "" ? "" : typed ? typed(v) : v)}
        />
      ))}
      <NumberField
        label="Starts later by"
        unit="min"
        value={minutes || null}
        empty="0"
        onChange={(v) => setMinutes(v ?? 0)}
      />
      <Schedules
        zone={plan.time_zone}
        value={(changes["schedules"] as ScheduleValue[] | undefined) ?? NO_SCHEDULES}
        onChange={(schedules) =>
          setChanges((now) => {
            const rest = Object.fromEntries(
              Object.entries(now).filter(([key]) => key !== "schedules" && key !== "after"),
            );
            return schedules.length ? { ...rest, schedules, after: null } : rest;
          })
        }
      />
      <Group title="Limits">
        <Limit
          label="Streams at once"
          at="max_streams"
          changes={changes}
          onChange={(v) => pick("max_streams", v)}
        />
        <Limit
          label="Bandwidth"
          unit="Mbit/s"
          at="limit_mbit_per_s"
          changes={changes}
          onChange={(v) => pick("limit_mbit_per_s", v)}
        />
      </Group>
      <Group title="Notices">
        <Pick
          label="Told"
          value={String(changes["notify"] ?? "")}
          options={[SAME, ...NOTICES]}
          onChange={(v) => pick("notify", v)}
        />
        <Field
          label="To (addresses, with commas)"
          placeholder="as it is"
          value={people}
          onChange={(event) => {
            setPeople(event.target.value);
            const named = betweenCommas(event.target.value);
            pick("notify_to", named.length ? named : "");
          }}
        />
      </Group>
      <Group title="Copied to">
        <Pick
          label="Copies"
          value={copy === null ? "" : copy === "none" ? "none" : "one"}
          options={[
            SAME,
            { value: "none", label: "none" },
            { value: "one", label: "one copy, in place of theirs" },
          ]}
          onChange={(v) => {
            const first = offered.data?.repositories.at(-1) ?? "";
            setCopy(v === "" ? null : v === "none" ? v : firstCopy(first));
          }}
        />
        {copy !== null && copy !== "none" && (
          <>
            <Pick
              label="To"
              value={copy.repository}
              options={offered.data?.repositories ?? []}
              onChange={(repository) => setCopy({ ...copy, repository })}
            />
            <CopyFields value={copy} onChange={setCopy} />
          </>
        )}
      </Group>
      <Group title="Kept">
        {retention ? (
          <RetentionFields value={retention} wrong={null} onChange={setRetention} />
        ) : (
          <Button small onClick={() => setRetention({ ...NO_RETENTION, days: 14, weekly: 4 })}>
            Another retention
          </Button>
        )}
      </Group>
      {refused && (
        <p role="alert" className="mb-2 text-barn">
          {refused.message}
        </p>
      )}
      {considered.length > 0 && !refused && (
        <div className="mb-3" role="status">
          <p className="font-medium">
            {count(words.length, "change")}
            {busy === "previewing" && ", simulating …"}
          </p>
          <ul className="max-h-32 overflow-y-auto pl-4 text-xs" tabIndex={0} aria-label="Changes">
            {words.map((w, i) => (
              <li key={i} className="list-disc">
                {w}
              </li>
            ))}
          </ul>
          {lines.length ? (
            lines.map((line) => <p key={line}>{line}</p>)
          ) : (
            <p className="text-ink-2">No night changes.</p>
          )}
        </div>
      )}
      <p className="flex gap-2">
        <Button
          look="strong"
          disabled={!operations.length || refused !== null || busy === "saving"}
          onClick={() => void put(operations).then((done) => done && onDone())}
        >
          Add to draft
        </Button>
        <Button look="plain" onClick={onClose}>
          Discard
        </Button>
      </p>
    </Sheet>
  );
}

/** A limit of all jobs: as it is, none, or a number. */
function Limit({
  label,
  unit,
  at,
  changes,
  onChange,
}: {
  label: string;
  unit?: string;
  at: string;
  changes: Record<string, unknown>;
  onChange: (value: number | null | "") => void;
}) {
  const set = at in changes;
  const value = changes[at] as number | null | undefined;
  return (
    <>
      <Pick
        label={label}
        value={!set ? "" : value === null ? "none" : "limited"}
        options={[
          SAME,
          { value: "none", label: "no limit" },
          { value: "limited", label: "at most" },
        ]}
        onChange={(v) => onChange(v === "" ? "" : v === "none" ? null : 4)}
      />
      {set && value !== null && (
        <NumberField
          label={`${label}, at most`}
          {...(unit && { unit })}
          value={value}
          wrong={(value ?? 0) > 0 ? null : "above 0"}
          onChange={(v) => v !== null && v > 0 && onChange(v)}
        />
      )}
    </>
  );
}

const KINDS: RunKind[] = ["incremental", "differential", "full"];

/** Schedules in place of those that the jobs have, one for each kind, as one would say them. */
function Schedules({
  zone,
  value,
  onChange,
}: {
  zone: string;
  value: ScheduleValue[];
  onChange: (schedules: ScheduleValue[]) => void;
}) {
  const { plan, draft, date } = useWorkbench();
  const [texts, setTexts] = useState<Record<string, string>>({});
  const [reasons, setReasons] = useState<Record<string, string | null>>({});
  const latest = useRef(value);
  useEffect(() => {
    latest.current = value;
  });
  const hear = (kind: RunKind, text: string) => {
    setTexts({ ...texts, [kind]: text });
    const others = () => latest.current.filter((schedule) => schedule.kind !== kind);
    if (!text.trim()) {
      setReasons({ ...reasons, [kind]: null });
      onChange(others());
      return;
    }
    say(
      plan.id,
      { draft: draft?.id ?? null, operations: [], text, kind, day: date, time_zone: zone },
      new AbortController().signal,
    )
      .then((answer) => {
        setReasons((before) => ({ ...before, [kind]: answer.reason }));
        if (answer.schedule) onChange([...others(), answer.schedule as ScheduleValue]);
      })
      .catch((error: unknown) =>
        setReasons((before) => ({ ...before, [kind]: (error as Error).message })),
      );
  };
  return (
    <Group title="When, in place of their schedules">
      {KINDS.map((kind) => (
        <Field
          key={kind}
          label={`Runs of kind ${kind}`}
          placeholder={value.length ? "none" : "as it is"}
          value={texts[kind] ?? ""}
          wrong={reasons[kind] ?? null}
          onChange={(event) => hear(kind, event.target.value)}
        />
      ))}
    </Group>
  );
}
