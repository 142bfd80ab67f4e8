import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { useNavigate } from "react-router";
import { validationQuery } from "../api/versionQueries";
import { Button } from "../ui/Button";
import { Field } from "../ui/Field";
import { Modal } from "../ui/Modal";
import { count } from "../ui/words";
import { useWorkbench } from "../workbench/store";

/** Adopting asks once: what changes, what speaks against it, and why it is done. */
export function AdoptDialog({ open, onOpen }: { open: boolean; onOpen: (open: boolean) => void }) {
  const { plan, draft, date, adopt, busy } = useWorkbench();
  const navigate = useNavigate();
  const [note, setNote] = useState("");
  const found = useQuery({ ...validationQuery(plan, draft, date), enabled: open });
  const stops = found.data?.stops ?? [];
  const jobName = (id: string) => plan.jobs.find((job) => job.id === id)?.name ?? id;
  if (!draft) return null;
  return (
    <Modal open={open} onOpen={onOpen} title={`Adopt “${draft.name}”`}>
      <p className="mb-1">{count(draft.changes.length, "change")}:</p>
      <ul
        className="mb-3 max-h-40 overflow-y-auto pl-4"
        tabIndex={0}
        aria-label="Changes of the draft"
      >
        {draft.changes.map((change, i) => (
          <li key={i} className="list-disc">
            {change.words}
          </li>
        ))}
      </ul>
      {!found.data && <p role="status">Checking the plan …</p>}
      {stops.length > 0 && (
        <div role="alert" className="mb-3">
          <p className="font-semibold text-barn">
            {count(stops.length, "thing")} of this plan can never work:
          </p>
          <ul className="pl-4">
            {stops.map((problem, i) => (
              <li key={i} className="list-disc">
                {jobName(problem.job)}: {problem.words}
              </li>
            ))}
          </ul>
        </div>
      )}
      {found.data && found.data.breaks.length > 0 && (
        <p className="mb-3 text-ink-2">
          {count(found.data.breaks.length, "finding")} of this week{" "}
          {found.data.breaks.length === 1 ? "says" : "say"} that something does not get done.
        </p>
      )}
      <form
        onSubmit={(event) => {
          event.preventDefault();
          void adopt(note, stops.length > 0).then((done) => {
            if (!done) return;
            onOpen(false);
            // The draft is no more: what is adopted stands with the drafts.
            const shown = new URLSearchParams({ plan: String(plan.id), draft: "none" });
            shown.set("show", "drafts");
            navigate({ pathname: `/jobs/${date}`, search: shown.toString() });
          });
        }}
      >
        <Field
          label={stops.length ? "Why it is adopted all the same" : "Note: why (kept with the plan)"}
          autoFocus
          value={note}
          onChange={(event) => setNote(event.target.value)}
        />
        <p className="flex gap-2">
          <Button
            type="submit"
            look="strong"
            disabled={!found.data || busy === "saving" || (stops.length > 0 && !note.trim())}
          >
            {stops.length ? "Adopt all the same" : "Adopt this plan"}
          </Button>
          <Button look="plain" onClick={() => onOpen(false)}>
            Not now
          </Button>
        </p>
      </form>
    </Modal>
  );
}
