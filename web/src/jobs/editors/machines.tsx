import { ArrowDown, ArrowUp, Plus, X } from "lucide-react";
import { useState } from "react";
import { Button } from "../../ui/Button";
import { Choice } from "../../ui/Choice";
import { typedNumber } from "../../ui/numbers";
import { count } from "../../ui/words";
import { Group, Pick } from "../../ui/controls";
import { type Choices as Offered } from "../../api/jobQueries";
import { longDate } from "../../time/time";
import { LeaveOutForm } from "../LeaveOutForm";
import {
  type Condition,
  excluding,
  firstCondition,
  including,
  leavingOut,
  moved,
  selectionOf,
} from "../value";
import { PathsLeftOut } from "./pathsLeftOut";
import { type Props } from "./props";

const FIELD_WORDS: Record<string, string> = {
  used_gib: "used GiB",
  provisioned_gib: "provisioned GiB",
  powered_on: "powered on",
  only_swap: "nothing but swap",
  holds_backups: "holds backups",
  disk: "called",
};

export const said = (word: string) => FIELD_WORDS[word] ?? word.replaceAll("_", " ");

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

export function MachinesEditor({ edit, look, offered }: Props & { offered: Offered }) {
  const { value, set, wrong } = edit;
  const selection = selectionOf(value);
  const [name, setName] = useState("");
  const [added, setAdded] = useState<string | null>(null);
  const [leaving, setLeaving] = useState(false);
  const fields = offered.fields as Record<string, string[]>;
  const disks = offered.disk_fields as Record<string, string[]>;
  const values = offered.values as Record<string, unknown>;
  const names = values["name"] as string[] | undefined;
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
