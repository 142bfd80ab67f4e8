import { type ReactNode, useState } from "react";
import { Button } from "./Button";
import { Field } from "./Field";

export interface Why {
  reason: string;
  review: string | null;
}

/** Why something is left out, and when to look at that again. */
export function WhyForm({
  label,
  question,
  act,
  ready = true,
  autoFocus = false,
  children,
  onGive,
  onCancel,
}: {
  label: string;
  question: string;
  /** What the button does, in words. */
  act: string;
  /** Whether all that is asked before the reason has its answer. */
  ready?: boolean;
  autoFocus?: boolean;
  /** What is asked before the reason. */
  children?: ReactNode;
  onGive: (why: Why) => void;
  onCancel?: () => void;
}) {
  const [reason, setReason] = useState("");
  const [review, setReview] = useState("");
  const complete = ready && reason.trim() !== "";
  return (
    <form
      aria-label={label}
      className="my-1"
      onSubmit={(event) => {
        event.preventDefault();
        if (complete) onGive({ reason: reason.trim(), review: review || null });
      }}
    >
      {children}
      <Field
        label={question}
        autoFocus={autoFocus}
        maxLength={500}
        value={reason}
        onChange={(event) => setReason(event.target.value)}
      />
      <Field
        label="Look at this again on"
        type="date"
        value={review}
        onChange={(event) => setReview(event.target.value)}
      />
      <span className="flex gap-2">
        <Button type="submit" disabled={!complete}>
          {act}
        </Button>
        {onCancel && (
          <Button look="plain" onClick={onCancel}>
            Cancel
          </Button>
        )}
      </span>
    </form>
  );
}
