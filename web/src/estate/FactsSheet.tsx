import { useState } from "react";
import { ApiProblem } from "../api/client";
import { useWorkbench } from "../shell/workbench";
import { Button } from "../ui/Button";
import { Field } from "../ui/Field";
import { Sheet } from "../ui/Sheet";
import { count } from "../ui/words";
import { editFacts, type Machine } from "./queries";
import { problemLines, useEstateChange } from "./useEstateChange";

interface Fact {
  field: "daily_change" | "compress_ratio" | "growth_per_year" | "churn_ceiling" | "rpo_hours" | "rto_hours";
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
const REVERTED = ["daily_change", "compress_ratio", "growth_per_year"];

/** A number as people type it: with a point or a comma. */
export function typedNumber(text: string): number {
  return Number(text.trim().replace(",", "."));
}

/** State facts of one machine or of many; what is left empty stays as it is. */
export function FactsForm({ machines, before, onDone }: {
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
    if (!(problem instanceof ApiProblem)) return null;
    return problem.problem.errors?.find((error) => error.field === field)?.reason ?? null;
  };
  const entered = FACTS.filter((fact) => typed[fact.field]);
  const valid = entered.every((fact) => !Number.isNaN(typedNumber(typed[fact.field] ?? "")));
  const send = (revert: string[]) =>
    void run(() =>
      editFacts(plan.id, {
        machines,
        state: revert.length
          ? {}
          : Object.fromEntries(
              entered.map((fact) => [fact.field, Number((typedNumber(typed[fact.field] ?? "") * fact.scale).toPrecision(10))]),
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
      {FACTS.map((fact) => {
        const value = before?.[fact.field];
        return (
          <Field
            key={fact.field}
            label={`${fact.label} (${fact.unit})`}
            inputMode="decimal"
            placeholder={typeof value === "number" ? String(Number((value / fact.scale).toPrecision(6))) : before ? "none" : "as it is"}
            value={typed[fact.field] ?? ""}
            wrong={wrong(fact.field)}
            onChange={(event) => setTyped({ ...typed, [fact.field]: event.target.value })}
          />
        );
      })}
      {problem && problemLines(problem).map((line) => <p key={line} role="alert" className="text-barn">{line}</p>)}
      <p className="flex gap-2">
        <button type="submit" disabled={busy || !entered.length || !valid} className="h-7 rounded-[3px] bg-ink px-2 font-semibold text-surface disabled:opacity-45">
          State it for {machines.length === 1 ? "this machine" : count(machines.length, "machine")}
        </button>
        {!before && (
          <Button disabled={busy} onClick={() => send(REVERTED)}>
            Bring back what was before
          </Button>
        )}
      </p>
      <p className="mt-1 text-xs text-ink-2">What a planner states is marked ✎, and what was before can be brought back.</p>
    </form>
  );
}

export function FactsSheet({ machines, onClose, onDone }: { machines: string[]; onClose: () => void; onDone: () => void }) {
  return (
    <Sheet label="Facts of the marked machines" title={`Facts of ${count(machines.length, "machine")}`} onClose={onClose}>
      <p className="mb-3 text-ink-2">{machines.slice(0, 6).join(", ")}{machines.length > 6 && ` and ${machines.length - 6} more`}</p>
      {machines.length ? <FactsForm machines={machines} onDone={onDone} /> : <p>Mark machines in the table first.</p>}
    </Sheet>
  );
}
