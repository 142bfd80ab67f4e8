import type { InputHTMLAttributes, ReactNode } from "react";
import { useId } from "react";

interface Props extends InputHTMLAttributes<HTMLInputElement> {
  label: ReactNode;
  /** What is wrong with the value; it stands below and is read with the field. */
  wrong?: string | null;
  note?: ReactNode;
}

/** The one form field: a label, an input, a note, what is wrong. */
export function Field({ label, wrong, note, className, ...input }: Props) {
  const id = useId();
  return (
    <div className="mb-2">
      <label htmlFor={id} className="block text-xs text-ink-2">
        {label}
      </label>
      <input
        id={id}
        aria-invalid={Boolean(wrong)}
        aria-describedby={wrong || note ? `${id}-more` : undefined}
        className={`h-7 w-full rounded-[3px] border border-rule-strong bg-raised px-1.5 aria-invalid:border-barn ${className ?? ""}`}
        {...input}
      />
      {(wrong || note) && (
        <p id={`${id}-more`} className={wrong ? "text-barn" : "text-xs text-ink-2"}>
          {wrong ?? note}
        </p>
      )}
    </div>
  );
}
