import { Field } from "../../ui/Field";
import { NumberField } from "../../ui/controls";
import { NO_RETENTION, type Retention, retentionOf } from "../value";
import { type Props } from "./props";

/** The spans of a retention; empty everywhere keeps everything. */
export function RetentionFields({
  value,
  wrong,
  onChange,
}: {
  value: Retention;
  wrong: string | null;
  onChange: (value: Retention) => void;
}) {
  const one = (key: Exclude<keyof Retention, "until">, label: string, unit?: string) => (
    <NumberField
      key={key}
      label={label}
      {...(unit && { unit })}
      value={value[key] || null}
      empty="–"
      onChange={(v) => onChange({ ...value, [key]: v ?? NO_RETENTION[key] })}
    />
  );
  return (
    <>
      <div className="grid grid-cols-2 gap-x-3">
        {one("points", "Newest points")}
        {one("days", "All younger than", "days")}
        {one("full_days", "Fulls younger than", "days")}
        {one("incremental_days", "The rest younger than", "days")}
        {one("weekly", "First full of a week", "weeks")}
        {one("monthly", "of a month", "months")}
        {one("yearly", "of a year", "years")}
        <Field
          label="Everything until (date)"
          type="date"
          value={value.until ?? ""}
          onChange={(e) => onChange({ ...value, until: e.target.value || null })}
        />
      </div>
      {wrong && (
        <p role="alert" className="mb-2 text-barn">
          {wrong}
        </p>
      )}
      <p className="mb-2 text-ink-2">
        Any rule that wants a point keeps it; with none, everything is kept. Until the date nothing
        is deleted. The picture of the points shows what holds what.
      </p>
    </>
  );
}

export function KeptEditor({ edit }: Props) {
  return (
    <RetentionFields
      value={retentionOf(edit.value.retention)}
      wrong={edit.wrong("retention")}
      onChange={(v) => edit.set({ retention: v })}
    />
  );
}
