import { type ReactNode, useState } from "react";
import { Choice } from "./Choice";
import { Field } from "./Field";
import { typedNumber } from "./numbers";

/** A number in a field; what is no number is named and changes nothing. */
export function NumberField({
  label,
  unit,
  value,
  empty,
  wrong,
  note,
  onChange,
}: {
  label: string;
  unit?: string;
  value: number | null | undefined;
  /** What an empty field means; without it, an empty field is wrong. */
  empty?: string;
  wrong?: string | null;
  note?: ReactNode;
  onChange: (value: number | null) => void;
}) {
  const [text, setText] = useState<string | null>(null);
  const [bad, setBad] = useState<string | null>(null);
  const shown = value === null || value === undefined ? "" : String(value);
  return (
    <Field
      label={`${label}${unit ? ` (${unit})` : ""}`}
      inputMode="decimal"
      placeholder={empty}
      value={text ?? shown}
      wrong={bad ?? wrong ?? null}
      note={note}
      onBlur={() => !bad && setText(null)}
      onChange={(event) => {
        const typed = event.target.value;
        setText(typed);
        if (!typed.trim() && empty !== undefined) {
          setBad(null);
          onChange(null);
          return;
        }
        const number = typedNumber(typed);
        setBad(Number.isNaN(number) ? "write a number" : null);
        if (!Number.isNaN(number)) onChange(number);
      }}
    />
  );
}

export function Flag({
  label,
  value,
  onChange,
}: {
  label: ReactNode;
  value: boolean;
  onChange: (value: boolean) => void;
}) {
  return (
    <label className="mb-2 flex items-center gap-2">
      <input type="checkbox" checked={value} onChange={(event) => onChange(event.target.checked)} />
      {label}
    </label>
  );
}

/** One of several words, on a line of its own. */
export function Pick({
  label,
  value,
  options,
  onChange,
}: {
  label: string;
  value: string;
  options: readonly (string | { value: string; label: string })[];
  onChange: (value: string) => void;
}) {
  return (
    <div className="mb-2 -ml-1.5">
      <Choice
        lead={label}
        value={value}
        options={options.map((o) => (typeof o === "string" ? { value: o, label: o } : o))}
        onChange={onChange}
      />
    </div>
  );
}

export function Group({ title, children }: { title: string; children: ReactNode }) {
  return (
    <fieldset className="mb-3 border-t border-rule pt-2">
      <legend className="pr-2 font-semibold">{title}</legend>
      {children}
    </fieldset>
  );
}
