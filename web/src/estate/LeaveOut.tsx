import { useState } from "react";
import { editFacts, factEdit } from "../api/estateQueries";
import { Button } from "../ui/Button";
import { WhyForm } from "../ui/WhyForm";
import { count } from "../ui/words";
import { useWorkbench } from "../workbench/store";
import { ProblemLines } from "./ProblemLines";
import { useEstateChange } from "./useEstateChange";

/** Say that machines need no protection: one reason and one date for all of them. */
export function LeaveOut({
  machines,
  opened = false,
  onDone,
}: {
  machines: string[];
  opened?: boolean;
  onDone?: () => void;
}) {
  const { plan } = useWorkbench();
  const { run, busy, problem } = useEstateChange();
  const [open, setOpen] = useState(opened);
  const one = machines.length === 1;
  if (!open)
    return (
      <p className="mb-2">
        <Button look="plain" className="underline" onClick={() => setOpen(true)}>
          Leave it out on purpose …
        </Button>
      </p>
    );
  return (
    <>
      <WhyForm
        label="Leave out on purpose"
        question={one ? "Why it needs no protection" : "Why they need no protection"}
        act={one ? "Leave it out" : `Leave out ${count(machines.length, "machine")}`}
        ready={!busy}
        onGive={(leave_out) =>
          void run(() => editFacts(plan.id, factEdit(machines, { leave_out }))).then(
            (done) => done && onDone?.(),
          )
        }
      />
      <ProblemLines problem={problem} />
    </>
  );
}
