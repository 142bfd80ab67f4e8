import { useQuery } from "@tanstack/react-query";
import { useId, useState } from "react";
import type { Operation } from "../api/client";
import { type SaidOfLine, timetableQuery } from "../api/jobQueries";
import { useMachineNames } from "../workbench/useMachineNames";
import { Button } from "../ui/Button";
import { Choice } from "../ui/Choice";
import { Flag } from "../ui/controls";
import { Field } from "../ui/Field";
import { count } from "../ui/words";
import { useConsiderWhileShown } from "../workbench/considering";
import { useMay } from "../workbench/rights";
import { useWorkbench } from "../workbench/store";
import { useUnsaved } from "../workbench/unsaved";

interface Asked {
  text: string;
  machine: string;
  withUser: boolean | null;
  said: readonly SaidOfLine[];
}

const NOTHING: Asked = { text: "", machine: "", withUser: null, said: [] };
const KINDS = ["incremental", "differential", "full"] as const;
const EXAMPLE =
  "30 21 * * 1-5  /opt/backup/mail-store.sh\n0 22 * * 6    /opt/backup/mail-store.sh --full";
const NO_OPERATIONS: Operation[] = [];

/** Crontab lines or a calendar as a first draft of jobs: line by line, then all at once. */
export function Timetable({ onDone }: { onDone: () => void }) {
  const { plan, draft, date, put } = useWorkbench();
  const mayPlan = useMay("plan");
  const unsaved = useUnsaved<Asked>(
    "timetable",
    () => "jobs from a timetable",
    NOTHING,
    (asked) => (asked.text ? 1 + asked.said.length : 0),
    true,
  );
  const asked = unsaved.value;
  const set = (more: Partial<Asked>) => unsaved.set((now) => ({ ...now, ...more }));
  const list = useId();
  const [typing, setTyping] = useState("");
  const names = useMachineNames(typing) ?? [];
  const [saving, setSaving] = useState(false);
  const found = useQuery({
    ...timetableQuery(plan, draft, {
      text: asked.text,
      day: date,
      machine: asked.machine,
      with_user: asked.withUser,
      said: [...asked.said],
    }),
    enabled: asked.text.trim() !== "",
    placeholderData: (before) => before,
  });
  const told = asked.text.trim() ? found.data : undefined;
  const operations = (told?.operations as Operation[] | undefined) ?? NO_OPERATIONS;
  useConsiderWhileShown(operations);
  const say = (line: number, more: Partial<SaidOfLine>) => {
    const before = asked.said.find((each) => each.line === line) ?? {
      line,
      take: true,
      job: null,
      kind: null,
      machine: null,
    };
    set({ said: [...asked.said.filter((e) => e.line !== line), { ...before, ...more }] });
  };
  const add = async () => {
    setSaving(true);
    const done = await put(operations);
    setSaving(false);
    if (!done) return;
    unsaved.clear();
    onDone();
  };
  return (
    <section
      aria-label="Jobs from a timetable"
      tabIndex={0}
      className="min-h-0 flex-1 overflow-y-auto px-4 pb-4"
    >
      <p className="max-w-[90ch] py-1">
        Lines of a crontab, or a calendar (.ics), that say when backups start elsewhere. Each
        becomes part of a job; lines with the same job are one. Nothing is added before you say so.
      </p>
      <div className="grid max-w-[110ch] grid-cols-[1fr_260px] gap-4 narrow:grid-cols-1">
        <div>
          <label htmlFor={`${list}-text`} className="block text-sm text-ink-2">
            Timetable
          </label>
          <textarea
            id={`${list}-text`}
            className="mt-0.5 block h-32 w-full border border-rule-strong bg-surface p-1 font-mono text-sm text-ink"
            value={asked.text}
            placeholder={EXAMPLE}
            spellCheck={false}
            onChange={(event) => set({ text: event.target.value, said: [] })}
          />
        </div>
        <div>
          <label className="mb-2 block text-sm text-ink-2">
            Or a file
            <input
              type="file"
              accept=".ics,.txt,.cron,.crontab,text/*"
              className="mt-0.5 block w-full"
              onChange={(event) => {
                const chosen = event.target.files?.[0];
                if (chosen) void chosen.text().then((text) => set({ text, said: [] }));
              }}
            />
          </label>
          <Field
            label="Server, where a line names none"
            list={list}
            value={asked.machine}
            onChange={(event) => {
              setTyping(event.target.value);
              set({ machine: event.target.value });
            }}
          />
          <datalist id={list}>
            {names.map((name) => (
              <option key={name} value={name} />
            ))}
          </datalist>
          {told?.kind === "crontab" && (
            <Flag
              label="a user stands before each command"
              value={asked.withUser ?? told.with_user}
              onChange={(withUser) => set({ withUser })}
            />
          )}
        </div>
      </div>
      {found.error && asked.text.trim() && (
        <p role="alert" className="text-barn">
          {found.error.message}
        </p>
      )}
      {told && told.lines.length > 0 && (
        <div className="overflow-x-auto" tabIndex={0} role="region" aria-label="Lines">
          <table className="mt-3 w-full max-w-[130ch] text-left text-sm">
            <thead className="text-ink-2">
              <tr>
                {["Take", "Line", "When", "Kind", "Machine", "Job"].map((title) => (
                  <th key={title} scope="col" className="py-0.5 pr-3 font-medium">
                    {title}
                  </th>
                ))}
              </tr>
            </thead>
            <tbody>
              {told.lines.map((line) => (
                <tr key={line.line} className="border-t border-rule align-baseline">
                  <td className="pr-3">
                    <input
                      type="checkbox"
                      aria-label={`Take line ${line.line}`}
                      checked={line.take && !line.wrong}
                      disabled={line.wrong !== ""}
                      onChange={(event) => say(line.line, { take: event.target.checked })}
                    />
                  </td>
                  <td className="max-w-[40ch] truncate pr-3 font-mono" title={line.text}>
                    <span className="text-ink-2">{line.line}</span> {line.text}
                  </td>
                  <td className="pr-3">
                    {line.words}
                    {line.wrong && <span className="text-barn">; {line.wrong}</span>}
                  </td>
                  <td className="pr-3">
                    <Choice
                      lead={`Kind of line ${line.line}`}
                      hideLead
                      value={line.kind}
                      options={KINDS.map((kind) => ({ value: kind, label: kind }))}
                      onChange={(kind) => say(line.line, { kind: kind as SaidOfLine["kind"] })}
                    />
                  </td>
                  <td className="pr-3">
                    <Typed
                      label={`Machine of line ${line.line}`}
                      value={line.machine}
                      list={list}
                      onTyping={setTyping}
                      onTyped={(machine) => say(line.line, { machine })}
                    />
                  </td>
                  <td>
                    <Typed
                      label={`Job of line ${line.line}`}
                      value={line.job}
                      onTyped={(job) => say(line.line, { job: job || null })}
                    />
                  </td>
                </tr>
              ))}
            </tbody>
          </table>
        </div>
      )}
      {told && told.problems.length > 0 && (
        <section aria-label="Lines that cannot be taken" className="pt-3">
          <h2 className="font-semibold text-barn">
            {count(told.problems.length, "line")} that cannot be taken
          </h2>
          <ul className="max-w-[110ch]">
            {told.problems.map((problem) => (
              <li key={problem.line} className="border-t border-rule py-0.5">
                Line {problem.line}: <span className="font-mono">{problem.value}</span>{" "}
                {problem.reason}
              </li>
            ))}
          </ul>
        </section>
      )}
      {told && told.jobs.length > 0 && (
        <section aria-label="New jobs" className="pt-3">
          <h2 className="font-semibold">{count(told.jobs.length, "new job")}</h2>
          <ul className="max-w-[110ch]">
            {told.jobs.map((job) => (
              <li key={job.name} className="border-t border-rule py-0.5">
                {job.words}
              </li>
            ))}
          </ul>
        </section>
      )}
      {asked.text.trim() && (
        <p className="flex gap-2 pt-3">
          {mayPlan && (
            <Button
              look="strong"
              disabled={!operations.length || saving || found.isFetching}
              onClick={() => void add()}
            >
              Add {count(operations.length, "job")} to the draft
            </Button>
          )}
          <Button look="plain" onClick={unsaved.clear}>
            Discard
          </Button>
        </p>
      )}
    </section>
  );
}

/** A text that counts once it is left or confirmed, so that nothing jumps while it is typed. */
function Typed(props: {
  label: string;
  value: string;
  list?: string;
  onTyping?: (value: string) => void;
  onTyped: (value: string) => void;
}) {
  const { label, value, list, onTyping, onTyped } = props;
  const [typed, setTyped] = useState<string | null>(null);
  const tell = () => {
    if (typed !== null && typed !== value) onTyped(typed.trim());
    setTyped(null);
  };
  return (
    <input
      aria-label={label}
      list={list}
      value={typed ?? value}
      className="h-7 w-44 rounded-[3px] border border-rule-strong bg-raised px-1.5"
      onChange={(event) => {
        setTyped(event.target.value);
        onTyping?.(event.target.value);
      }}
      onBlur={tell}
      onKeyDown={(event) => event.key === "Enter" && tell()}
    />
  );
}
