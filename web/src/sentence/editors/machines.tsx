import { ArrowDown, ArrowUp, Plus, X } from "lucide-react";
import { useState } from "react";
import { Button } from "../../ui/Button";
import { count } from "../../ui/words";
import { Group, Pick } from "../../ui/controls";
import { type Choices as Offered } from "../../api/jobQueries";
import { longDate } from "../../time/time";
import { LeaveOutForm } from "../LeaveOutForm";
import { excluding, including, leavingOut, moved, selectionOf } from "../value";
import { PathsLeftOut } from "./pathsLeftOut";
import { type Props } from "./props";
import { ConditionRow, Rules } from "./rules";

export function MachinesEditor({ edit, look, offered }: Props & { offered: Offered }) {
  const { value, set, wrong } = edit;
  const selection = selectionOf(value);
  const [name, setName] = useState("");
  const [added, setAdded] = useState<string | null>(null);
  const [leaving, setLeaving] = useState(false);
  const disks = offered.disk_fields as Record<string, string[]>;
  const values = offered.values as Record<string, unknown>;
  const names = values["name"] as string[] | undefined;
  const put = (next: Partial<typeof selection>) => set({ machines: { ...selection, ...next } });
  const diskRules = value.exclude_disk_rules;
  return (
    <>
      <p className="mb-2 text-ink-2" role="status">
        {look ? `${count(look.machines, "machine")} now.` : ""} {look?.joins}
      </p>
      <Rules rules={selection.rules} offered={offered} onChange={(rules) => put({ rules })} />
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
            list={names ? "machines of the plan" : undefined}
            value={name}
            onChange={(event) => setName(event.target.value)}
            className="h-7 min-w-0 flex-1 rounded-[3px] border border-rule-strong bg-raised px-1.5"
          />
          <Button type="submit" disabled={!name.trim()}>
            Take in
          </Button>
        </form>
        {names && (
          <datalist id="machines of the plan">
            {names.map((each) => (
              <option key={each} value={each} />
            ))}
          </datalist>
        )}
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
        {leaving ? (
          <LeaveOutForm
            known={(look?.selected ?? []).map((m) => m.machine)}
            onCancel={() => setLeaving(false)}
            onLeaveOut={(why) => {
              set(leavingOut(value, why));
              setLeaving(false);
            }}
          />
        ) : (
          <Button small onClick={() => setLeaving(true)}>
            <Plus size={12} aria-hidden /> Leave a machine out
          </Button>
        )}
        {selection.exclude.length > 0 && (
          <>
            <p className="mt-1 text-ink-2">Left out by name</p>
            <ul>
              {selection.exclude.map((id) => (
                <li key={id} className="flex items-center gap-1">
                  <span className="min-w-0 flex-1">
                    <span className="font-mono text-xs line-through">{id}</span>
                    {value.exclude_reasons
                      .filter((why) => why.machine === id)
                      .map((why) => (
                        <span key={id} className="block text-xs text-ink-2">
                          {why.reason}
                          {why.review && `; look again on ${longDate(why.review)}`}
                        </span>
                      ))}
                  </span>
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
