import { useQuery } from "@tanstack/react-query";
import { useEffect, useMemo, useState } from "react";
import type { Operation } from "../api/client";
import { operationsOf } from "../workbench/moves";
import { changedNights } from "../workbench/changedNights";
import { useDiscardOnLeave } from "../workbench/considering";
import { useWorkbench } from "../workbench/store";
import { Button } from "../ui/Button";
import { Sheet } from "../ui/Sheet";
import { count } from "../ui/words";
import { Group, NumberField, Pick } from "../ui/controls";
import { RetentionFields } from "./editors/kept";
import { choicesQuery, type JobRow } from "../api/jobQueries";
import { changeJob, NO_RETENTION, type Retention } from "./value";

const SAME = { value: "", label: "as it is" };

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
  const free = useMemo(() => jobs.filter((job) => !job.locked), [jobs]);
  const operations = useMemo<Operation[]>(() => {
    const all = { ...changes, ...(retention && { retention }) };
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
  }, [changes, free, known, minutes, retention]);
  const key = JSON.stringify(operations);
  useEffect(() => consider(JSON.parse(key) as Operation[]), [consider, key]);
  useDiscardOnLeave();
  const pick = (field: string, value: unknown) =>
    setChanges((now) =>
      value === ""
        ? Object.fromEntries(Object.entries(now).filter(([k]) => k !== field))
        : { ...now, [field]: value },
    );
  const chosen = (field: string) => String(changes[field] ?? "");
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
      <Pick
        label="Priority"
        value={chosen("priority")}
        options={[SAME, "1", "2", "3", "4", "5"]}
        onChange={(v) => pick("priority", v === "" ? "" : Number(v))}
      />
      <Pick
        label="Window"
        value={chosen("window")}
        options={[SAME, ...(offered.data?.windows ?? [])]}
        onChange={(v) => pick("window", v)}
      />
      <Pick
        label="At its end"
        value={chosen("at_window_end")}
        options={[
          SAME,
          { value: "stop", label: "stopped" },
          { value: "finish", label: "may finish" },
          { value: "run_on", label: "runs on" },
        ]}
        onChange={(v) => pick("at_window_end", v)}
      />
      <Pick
        label="Repository"
        value={chosen("repository")}
        options={[SAME, ...(offered.data?.repositories ?? [])]}
        onChange={(v) => pick("repository", v)}
      />
      <Pick
        label="Checked by"
        value={chosen("verify")}
        options={[
          SAME,
          { value: "none", label: "nothing" },
          { value: "checksum", label: "a checksum" },
          { value: "boot", label: "a boot test" },
        ]}
        onChange={(v) => pick("verify", v)}
      />
      <Pick
        label="Read by"
        value={"proxies" in changes ? JSON.stringify(changes["proxies"]) : ""}
        options={[
          SAME,
          { value: "null", label: "any proxy" },
          ...(offered.data?.proxies ?? []).map((p) => ({ value: JSON.stringify([p]), label: p })),
        ]}
        onChange={(v) => pick("proxies", v === "" ? "" : (JSON.parse(v) as unknown))}
      />
      <Pick
        label="On hold"
        value={chosen("on_hold")}
        options={[SAME, { value: "true", label: "yes" }, { value: "false", label: "no" }]}
        onChange={(v) => pick("on_hold", v === "" ? "" : v === "true")}
      />
      <NumberField
        label="Starts later by"
        unit="min"
        value={minutes || null}
        empty="0"
        onChange={(v) => setMinutes(v ?? 0)}
      />
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
