import { X } from "lucide-react";
import { useId, useState } from "react";
import type { Subject } from "../api/recoveryQueries";
import { dateWords, dayClock } from "../time/time";
import { Button } from "../ui/Button";
import { Choice, Choices } from "../ui/Choice";
import { count } from "../ui/words";
import { useWorkbench } from "../workbench/store";
import type { Asked } from "./asked";
import { useMachineNames } from "../workbench/useMachineNames";

const KINDS = [
  ["sites", "site"],
  ["clusters", "cluster"],
  ["hosts", "host"],
  ["repositories", "repository"],
] as const;
const AT_ONCE = ["1", "2", "4", "8", "16", "32"];
const AFTER = [
  ["0", "at once"],
  ["30", "30 min later"],
  ["60", "1 h later"],
  ["120", "2 h later"],
  ["240", "4 h later"],
  ["720", "12 h later"],
  ["1440", "a day later"],
] as const;

/** What is lost and how it is to come back, as a sentence with places to change it. */
export function LossSentence({
  asked,
  at,
  subjects,
  onChange,
}: {
  asked: Asked;
  at: number;
  subjects: readonly Subject[];
  onChange: (asked: Asked) => void;
}) {
  const { plan, date } = useWorkbench();
  const id = useId();
  const set = (changes: Partial<Asked>) =>
    // Another loss has another order; what was said of machines that are not lost stays out of it.
    onChange({ ...asked, ...changes });
  const way = (changes: Partial<Asked["way"]>) =>
    onChange({ ...asked, way: { ...asked.way, ...changes } });
  const chosen = (kind: string) => asked.lost.filter((each) => each.startsWith(`${kind}:`));
  const { short, day, month } = dateWords(date);
  return (
    <div className="px-4 pt-2 print:hidden">
      <div className="flex flex-wrap items-center gap-x-1 text-base">
        <b className="pr-1">Gone:</b>
        {KINDS.map(([kind, noun]) => {
          const mine = chosen(kind);
          return (
            <Choices
              key={kind}
              lead={noun}
              said={
                mine.length === 0
                  ? "none"
                  : mine.length === 1
                    ? (subjects.find((s) => `${s.kind}:${s.id}` === mine[0])?.name ?? "?")
                    : count(mine.length, noun)
              }
              values={mine}
              options={subjects
                .filter((subject) => subject.kind === kind)
                .map((subject) => ({
                  value: `${kind}:${subject.id}`,
                  label: (
                    <>
                      {subject.name}
                      {kind !== "repositories" && (
                        <span className="text-ink-2"> {count(subject.machines, "machine")}</span>
                      )}
                    </>
                  ),
                }))}
              onChange={(values) =>
                set({ lost: [...asked.lost.filter((each) => !mine.includes(each)), ...values] })
              }
            />
          );
        })}
        <Machines machines={asked.machines} onChange={(machines) => set({ machines })} />
        <label htmlFor={`${id}-time`} className="pl-2 text-ink-2">
          since
        </label>
        <input
          id={`${id}-time`}
          type="time"
          required
          value={asked.time}
          onChange={(event) => event.target.value && set({ time: event.target.value })}
          className="h-7 rounded-[3px] border border-rule-strong bg-raised px-1.5"
        />
        <span className="text-ink-2">
          {dayClock(at, plan.time_zone)}, night of {short} {day} {month}
        </span>
      </div>
      <div className="flex flex-wrap items-center gap-x-1">
        <b className="pr-1 text-base">Brought back:</b>
        <Choice
          lead="beginning"
          value={String(asked.after)}
          options={AFTER.map(([value, label]) => ({ value, label }))}
          onChange={(after) => set({ after: Number(after) })}
        />
        <Choice
          lead="under way at one time"
          value={asked.way.at_once === null ? "any" : String(asked.way.at_once)}
          options={[
            ...AT_ONCE.map((value) => ({ value, label: value })),
            { value: "any", label: "any number" },
          ]}
          onChange={(value) => way({ at_once: value === "any" ? null : Number(value) })}
        />
        <Choice
          lead="machines of lost hosts to"
          value={asked.way.to_site ?? ""}
          options={[
            { value: "", label: "hosts of their cluster, else of their site" },
            ...subjects
              .filter((subject) => subject.kind === "sites")
              .map((subject) => ({ value: subject.id, label: `hosts of ${subject.name}` })),
          ]}
          onChange={(site) => way({ to_site: site || null })}
        />
        <Choice
          lead="other backups"
          value={asked.way.goes_on ? "on" : "still"}
          options={[
            { value: "still", label: "stand still" },
            { value: "on", label: "go on" },
          ]}
          onChange={(value) => way({ goes_on: value === "on" })}
        />
      </div>
    </div>
  );
}

function Machines({
  machines,
  onChange,
}: {
  machines: readonly string[];
  onChange: (machines: string[]) => void;
}) {
  const [typed, setTyped] = useState("");
  const list = useId();
  const found = useMachineNames(typed);
  const names = found ?? [];
  const wrong = typed.trim() !== "" && found !== undefined && !names.includes(typed.trim());
  return (
    <form
      className="flex flex-wrap items-center gap-1"
      onSubmit={(event) => {
        event.preventDefault();
        const name = typed.trim();
        if (!names.includes(name)) return;
        if (!machines.includes(name)) onChange([...machines, name]);
        setTyped("");
      }}
    >
      <label htmlFor={`${list}-name`} className="pl-1 text-ink-2">
        machine
      </label>
      <input
        id={`${list}-name`}
        list={list}
        value={typed}
        placeholder="name, Enter"
        aria-invalid={wrong || undefined}
        onChange={(event) => setTyped(event.target.value)}
        className="h-7 w-36 rounded-[3px] border border-rule-strong bg-raised px-1.5 aria-invalid:border-barn"
      />
      <datalist id={list}>
        {names.map((name) => (
          <option key={name} value={name} />
        ))}
      </datalist>
      {machines.map((name) => (
        <Button
          key={name}
          small
          aria-label={`${name} is not lost`}
          onClick={() => onChange(machines.filter((each) => each !== name))}
        >
          {name} <X size={12} aria-hidden />
        </Button>
      ))}
    </form>
  );
}
