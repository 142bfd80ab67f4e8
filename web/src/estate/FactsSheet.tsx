import { useState } from "react";
import { refusalsOf } from "../workbench/refusals";
import { useWorkbench } from "../workbench/store";
import { Button } from "../ui/Button";
import { Field } from "../ui/Field";
import { Sheet } from "../ui/Sheet";
import { typedNumber } from "../ui/numbers";
import { count } from "../ui/words";
import { editFacts, type Machine } from "../api/estateQueries";
import { problemLines, useEstateChange } from "./useEstateChange";

interface Fact {
  /** Its name at the server: of a disk "DISK/used_gib", of every disk "*" in place of its name. */
  field: string;
  label: string;
  /** What one unit on the screen is in the plan. */
  scale: number;
  unit: string;
}

const FACTS: Fact[] = [
  { field: "daily_change", label: "Change a day", scale: 0.01, unit: "% of what is used" },
  { field: "churn_ceiling", label: "Levels off at", scale: 0.01, unit: "% of what is used" },
  { field: "compress_ratio", label: "Compresses", scale: 1, unit: ": 1" },
  { field: "growth_per_year", label: "Grows a year", scale: 0.01, unit: "%" },
  { field: "rpo_hours", label: "RPO", scale: 1, unit: "hours" },
  { field: "rto_hours", label: "RTO", scale: 1, unit: "hours" },
];
const SIZES = [
  { fact: "provisioned_gib", word: "provisioned" },
  { fact: "used_gib", word: "used" },
  { fact: "swap_gib", word: "swap, part of used" },
];
const sizesOf = (disk: string, called: string): Fact[] =>
  SIZES.map(({ fact, word }) => ({
    field: `${disk}/${fact}`,
    label: `${called}, ${word}`,
    scale: 1,
    unit: "GiB",
  }));
const ON_EVERY_DISK = sizesOf("*", "Every disk");

/** What the machine says of a fact now. */
function valueNow(machine: Machine, field: string): unknown {
  const [disk, fact] = [
    field.slice(0, field.lastIndexOf("/")),
    field.slice(field.lastIndexOf("/") + 1),
  ];
  const owner = field.includes("/") ? machine.disk_list.find((each) => each.id === disk) : machine;
  return (owner as Record<string, unknown> | undefined)?.[fact];
}

/** State facts of one machine or of many; what is left empty stays as it is. */
export function FactsForm({
  machines,
  before,
  onDone,
}: {
  machines: string[];
  before?: Machine;
  onDone: () => void;
}) {
  const { plan } = useWorkbench();
  const { run, busy, problem } = useEstateChange();
  const [typed, setTyped] = useState<Record<string, string>>({});
  const wrong = (field: string) => {
    const text = typed[field];
    if (text && Number.isNaN(typedNumber(text))) return "is not a number";
    return refusalsOf(problem).of(field);
  };
  const sizes = before
    ? before.disk_list.flatMap((disk) => sizesOf(disk.id, disk.id))
    : ON_EVERY_DISK;
  const facts = [...FACTS, ...sizes];
  const entered = facts.filter((fact) => typed[fact.field]);
  const valid = entered.every((fact) => !Number.isNaN(typedNumber(typed[fact.field] ?? "")));
  const send = (revert: string[]) =>
    void run(() =>
      editFacts(plan.id, {
        machines,
        state: revert.length
          ? {}
          : Object.fromEntries(
              entered.map((fact) => [
                fact.field,
                Number((typedNumber(typed[fact.field] ?? "") * fact.scale).toPrecision(10)),
              ]),
            ),
        revert,
        leave_out: null,
        take_in: false,
      }),
    ).then((done) => done && onDone());
  return (
    <form
      onSubmit={(event) => {
        event.preventDefault();
        if (entered.length && valid) send([]);
      }}
    >
      {facts.map((fact) => {
        const value = before && valueNow(before, fact.field);
        return (
          <Field
            key={fact.field}
            label={`${fact.label} (${fact.unit})`}
            inputMode="decimal"
            placeholder={
              typeof value === "number"
                ? String(Number((value / fact.scale).toPrecision(6)))
                : before
                  ? "none"
                  : "as it is"
            }
            value={typed[fact.field] ?? ""}
            wrong={wrong(fact.field)}
            onChange={(event) => setTyped({ ...typed, [fact.field]: event.target.value })}
          />
        );
      })}
      {problem &&
        problemLines(problem).map((line) => (
          <p key={line} role="alert" className="text-barn">
            {line}
          </p>
        ))}
      <p className="flex gap-2">
        <button
          type="submit"
          disabled={busy || !entered.length || !valid}
          className="h-7 rounded-[3px] bg-ink px-2 font-semibold text-surface disabled:opacity-45"
        >
          State it for {machines.length === 1 ? "this machine" : count(machines.length, "machine")}
        </button>
        {!before && (
          <Button disabled={busy} onClick={() => send(facts.map((fact) => fact.field))}>
            Bring back what was before
          </Button>
        )}
      </p>
      <p className="mt-1 text-xs text-ink-2">
        What a planner states is marked ✎, and what was before can be brought back.
      </p>
    </form>
  );
}

export function FactsSheet({
  machines,
  onClose,
  onDone,
}: {
  machines: string[];
  onClose: () => void;
  onDone: () => void;
}) {
  return (
    <Sheet
      label="Facts of the marked machines"
      title={`Facts of ${count(machines.length, "machine")}`}
      onClose={onClose}
    >
      <p className="mb-3 text-ink-2">
        {machines.slice(0, 6).join(", ")}
        {machines.length > 6 && ` and ${machines.length - 6} more`}
      </p>
      {machines.length ? (
        <FactsForm machines={machines} onDone={onDone} />
      ) : (
        <p>Mark machines in the table first.</p>
      )}
    </Sheet>
  );
}
