import { ProblemLines } from "./ProblemLines";
import { useState } from "react";
import { refusalsOf } from "../workbench/refusals";
import { useWorkbench } from "../workbench/store";
import { Button } from "../ui/Button";
import { Pick } from "../ui/controls";
import { Field } from "../ui/Field";
import { Sheet } from "../ui/Sheet";
import { typedNumber } from "../ui/numbers";
import { count } from "../ui/words";
import { editFacts, factEdit, type Machine } from "../api/estateQueries";
import { useEstateChange } from "./useEstateChange";

interface Fact {
  /** Its name at the server: of a disk "DISK/used_gib", of every disk "*" in place of its name. */
  field: string;
  label: string;
  /** What one unit on the screen is in the plan. */
  scale: number;
  unit: string;
  /** Yes or no, or words, in place of a number. */
  kind?: "flag" | "text";
  onlyServer?: boolean;
}

const FACTS: Fact[] = [
  { field: "daily_change", label: "Change a day", scale: 0.01, unit: "% of what is used" },
  { field: "churn_ceiling", label: "Levels off at", scale: 0.01, unit: "% of what is used" },
  { field: "compress_ratio", label: "Compresses", scale: 1, unit: ": 1" },
  { field: "growth_per_year", label: "Grows a year", scale: 0.01, unit: "%" },
  { field: "rpo_hours", label: "RPO", scale: 1, unit: "hours" },
  { field: "rto_hours", label: "RTO", scale: 1, unit: "hours" },
  { field: "memory_gib", label: "Memory", scale: 1, unit: "GiB" },
  { field: "role", label: "Role of the application", scale: 1, unit: "", kind: "text" },
  { field: "owner", label: "Owner", scale: 1, unit: "", kind: "text" },
  { field: "quiesces", label: "Can be quiesced", scale: 1, unit: "", kind: "flag" },
  { field: "nic_mbit_per_s", label: "Network", scale: 1, unit: "Mbit/s", onlyServer: true },
  { field: "agent_streams", label: "Streams of its agent", scale: 1, unit: "", onlyServer: true },
  {
    field: "backup_network",
    label: "Second NIC in network",
    scale: 1,
    unit: "",
    kind: "text",
    onlyServer: true,
  },
  {
    field: "backup_nic_mbit_per_s",
    label: "Second NIC",
    scale: 1,
    unit: "Mbit/s",
    onlyServer: true,
  },
];
const SIZES = [
  { fact: "provisioned_gib", word: "provisioned" },
  { fact: "used_gib", word: "used" },
  { fact: "swap_gib", word: "swap, part of used" },
];
const sizesOf = (disk: string, called: string): Fact[] => [
  ...SIZES.map(({ fact, word }) => ({
    field: `${disk}/${fact}`,
    label: `${called}, ${word}`,
    scale: 1,
    unit: "GiB",
  })),
  {
    field: `${disk}/holds_backups`,
    label: `${called}: holds backups`,
    scale: 1,
    unit: "",
    kind: "flag",
  },
];
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
  const mistyped = (fact: Fact) =>
    !fact.kind && Boolean(typed[fact.field]) && Number.isNaN(typedNumber(typed[fact.field] ?? ""));
  const wrong = (fact: Fact) =>
    mistyped(fact) ? "is not a number" : refusalsOf(problem).of(fact.field);
  const sizes = before
    ? before.disk_list.flatMap((disk) => sizesOf(disk.id, disk.id))
    : ON_EVERY_DISK;
  const facts = [
    ...FACTS.filter((fact) => !fact.onlyServer || !before || before.kind === "server"),
    ...sizes,
  ];
  const entered = facts.filter((fact) => typed[fact.field]);
  const valid = !entered.some(mistyped);
  const stated = (fact: Fact) => {
    const text = typed[fact.field] ?? "";
    if (fact.kind === "flag") return text === "yes";
    if (fact.kind === "text") return text;
    return Number((typedNumber(text) * fact.scale).toPrecision(10));
  };
  const all = () => Object.fromEntries(entered.map((fact) => [fact.field, stated(fact)]));
  const send = (revert: string[]) =>
    void run(() =>
      editFacts(plan.id, factEdit(machines, revert.length ? { revert } : { state: all() })),
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
        if (fact.kind === "flag")
          return (
            <Pick
              key={fact.field}
              label={fact.label}
              value={typed[fact.field] ?? ""}
              options={[
                {
                  value: "",
                  label: before ? (value ? "yes, as it is" : "no, as it is") : "as it is",
                },
                ...["yes", "no"].filter((word) => !before || (word === "yes") !== value),
              ]}
              onChange={(word) => setTyped({ ...typed, [fact.field]: word })}
            />
          );
        return (
          <Field
            key={fact.field}
            label={fact.unit ? `${fact.label} (${fact.unit})` : fact.label}
            inputMode={fact.kind ? "text" : "decimal"}
            placeholder={
              typeof value === "number"
                ? String(Number((value / fact.scale).toPrecision(6)))
                : typeof value === "string" && value
                  ? value
                  : before
                    ? "none"
                    : "as it is"
            }
            value={typed[fact.field] ?? ""}
            wrong={wrong(fact)}
            onChange={(event) => setTyped({ ...typed, [fact.field]: event.target.value })}
          />
        );
      })}
      <ProblemLines problem={problem} />
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
