import { useId, useState } from "react";
import { Field } from "../ui/Field";
import { WhyForm } from "../ui/WhyForm";
import type { ExclusionReason } from "./value";

/**
 * Leave a machine out of a job: which, why, and when to look at that again.
 *
 * @param machine the one to leave out; without it, its name is typed with completion.
 */
export function LeaveOutForm({
  machine,
  known,
  onLeaveOut,
  onCancel,
}: {
  machine?: string;
  known: readonly string[];
  onLeaveOut: (why: ExclusionReason) => void;
  onCancel: () => void;
}) {
  const list = useId();
  const [name, setName] = useState(machine ?? "");
  return (
    <WhyForm
      label="Leave a machine out"
      question="Why"
      act="Leave out"
      ready={known.includes(name)}
      autoFocus={Boolean(machine)}
      onGive={(why) => onLeaveOut({ machine: name, ...why })}
      onCancel={onCancel}
    >
      {machine ? (
        <p className="mb-1 font-medium">Leave {machine} out of this job</p>
      ) : (
        <>
          <Field
            label="Machine to leave out"
            autoFocus
            list={list}
            value={name}
            wrong={name && !known.includes(name) ? "is not selected by this job" : null}
            onChange={(event) => setName(event.target.value)}
          />
          <datalist id={list}>
            {known.map((each) => (
              <option key={each} value={each} />
            ))}
          </datalist>
        </>
      )}
    </WhyForm>
  );
}
