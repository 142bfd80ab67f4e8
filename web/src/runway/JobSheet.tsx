import { ClauseEditor, titleOf } from "../sentence/editors/ClauseEditor";
import { ClauseButton } from "../sentence/Sentence";
import { editsOf, type JobEdits, NO_EDITS, useJobEdit } from "../sentence/useJobEdit";
import { AskButton } from "../ui/AskButton";
import { Button } from "../ui/Button";
import { Sheet } from "../ui/Sheet";
import { count } from "../ui/words";
import { useAddress } from "../workbench/address";
import { useCtrl } from "../workbench/keys";
import { useWorkbench } from "../workbench/store";
import { useUnsaved } from "../workbench/unsaved";

/** The clauses of a job that decide how much space it takes. */
const CLAUSES = ["kept", "runs", "to", "copies", "reduction"];

/** A job beside the curves: what of its sentence decides about space, in the same editors. */
export function JobSheet({ id, onClose }: { id: string; onClose: () => void }) {
  const { plan, busy } = useWorkbench();
  const { search, set } = useAddress();
  const job = plan.jobs.find((each) => each.id === id);
  const unsaved = useUnsaved<JobEdits>(
    `job ${id}`,
    () => `job ${job?.name ?? id}`,
    NO_EDITS,
    editsOf,
  );
  const { edit, look, fetching, refused, missing, changed, edits, forget, save } = useJobEdit(
    id,
    null,
    unsaved,
  );
  const clause = search.get("clause") ?? "kept";
  const ready = changed && refused === null && !fetching && busy !== "saving" && !job?.locked;
  const putIt = () => void save();
  useCtrl("s", ready ? putIt : null);
  return (
    <Sheet label={`Space of ${job?.name ?? id}`} title={job?.name ?? id} onClose={onClose}>
      {missing && (
        <p role="alert" className="text-barn">
          {missing.message}
        </p>
      )}
      {!edit && !missing && <p role="status">Reading the job …</p>}
      {edit && (
        <>
          {look && (
            <ul className="mb-2" aria-label="What decides about its space">
              {look.clauses
                .filter((each) => CLAUSES.includes(each.key))
                .map((each) => (
                  <li key={each.key} className="leading-relaxed">
                    <strong>{each.lead}</strong>{" "}
                    <ClauseButton
                      look={look}
                      clause={each}
                      chosen={clause}
                      onOpen={(key) => set({ clause: key })}
                    />
                  </li>
                ))}
            </ul>
          )}
          {refused && (
            <p role="alert" className="text-barn">
              {refused}
            </p>
          )}
          {job?.locked && (
            <p className="mb-2 text-hay-text">The job is locked; unlock it to change it.</p>
          )}
          {changed && (
            <p className="mb-2 flex gap-2">
              <Button
                look="strong"
                disabled={!ready}
                aria-keyshortcuts="Control+S"
                title="Ctrl+S"
                onClick={putIt}
              >
                Add to draft
              </Button>
              <AskButton
                ask={edits > 1}
                question={`Discard ${count(edits, "edit")} of ${job?.name ?? id}?`}
                onYes={forget}
              >
                Discard
              </AskButton>
            </p>
          )}
          <h3 className="mt-3 mb-1 border-t border-rule pt-2 font-semibold">{titleOf(clause)}</h3>
          <ClauseEditor key={clause} clause={clause} edit={edit} look={look} />
        </>
      )}
    </Sheet>
  );
}
