import { Plus, X } from "lucide-react";
import { useState } from "react";
import { type Choices as Offered } from "../../api/jobQueries";
import { Button } from "../../ui/Button";
import { Choice } from "../../ui/Choice";
import { Group } from "../../ui/controls";
import { typedNumber } from "../../ui/numbers";
import { type Condition, firstCondition } from "../value";

const FIELD_WORDS: Record<string, string> = {
  used_gib: "used GiB",
  provisioned_gib: "provisioned GiB",
  powered_on: "powered on",
  only_swap: "nothing but swap",
  holds_backups: "holds backups",
  disk: "called",
};

export const said = (word: string) => FIELD_WORDS[word] ?? word.replaceAll("_", " ");

export function ConditionRow({
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

/** Rules that name machines: all conditions of any rule must hold. */
export function Rules({
  rules,
  offered,
  begun = false,
  onChange,
}: {
  rules: readonly Condition[][];
  offered: Offered;
  /** Whether the first rule was added just now: its value is what is typed next. */
  begun?: boolean;
  onChange: (rules: Condition[][]) => void;
}) {
  const [added, setAdded] = useState<string | null>(begun ? "0 0" : null);
  const fields = offered.fields as Record<string, string[]>;
  const values = offered.values as Record<string, unknown>;
  const first = (list: string, otherwise: string) =>
    (values[list] as string[] | undefined)?.[0] ?? otherwise;
  const rule = (i: number, conditions: Condition[]) =>
    onChange(rules.map((r, at) => (at === i ? conditions : r)).filter((r) => r.length));
  return (
    <>
      {rules.map((conditions, i) => (
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
              rule(i, [...conditions, { field: "tag", op: "has", value: first("tag", "gold") }]);
            }}
          >
            <Plus size={12} aria-hidden /> and
          </Button>
        </Group>
      ))}
      <Button
        small
        onClick={() => {
          setAdded(`${rules.length} 0`);
          onChange([...rules, [{ field: "folder", op: "is", value: first("folder", "folder") }]]);
        }}
      >
        <Plus size={12} aria-hidden /> {rules.length ? "Or another rule" : "A rule"}
      </Button>
    </>
  );
}
