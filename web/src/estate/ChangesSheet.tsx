import { ProblemLines } from "./ProblemLines";
import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { useWorkbench } from "../workbench/store";
import { dayClock, longDate } from "../time/time";
import { Button } from "../ui/Button";
import { Sheet } from "../ui/Sheet";
import { type Acceptance, acceptancesQuery, bringBack, undoAcceptance } from "../api/estateQueries";
import { useEstateChange } from "./useEstateChange";

const WHAT: Record<string, string> = {
  accept: "Taken from the inbox",
  edit: "Facts edited",
  import: "Imported",
  undo: "Undone",
  "bring back": "Brought back",
};

/** Every change of the estate: undo one, look at the estate of then, or bring it all back. */
export function ChangesSheet({
  onClose,
  onView,
}: {
  onClose: () => void;
  onView: (version: number) => void;
}) {
  const { plan } = useWorkbench();
  const answer = useQuery(acceptancesQuery(plan.id));
  const { run, busy, problem } = useEstateChange();
  return (
    <Sheet label="Changes of the estate" title="Changes of the estate" onClose={onClose}>
      <p className="mb-2 text-ink-2">
        Newest first. Jobs and restore points are never touched by going back.
      </p>
      {answer.error && <p role="alert">{answer.error.message}</p>}
      <ProblemLines problem={problem} />
      {answer.data?.acceptances.length === 0 && (
        <p>Nothing has changed since the plan was stored.</p>
      )}
      <ol>
        {answer.data?.acceptances.map((change) => (
          <Change
            key={change.id}
            change={change}
            busy={busy}
            onUndo={() => void run(() => undoAcceptance(change.id))}
            onBringBack={() => void run(() => bringBack(change.id))}
            onView={() => onView(change.after_version)}
          />
        ))}
      </ol>
    </Sheet>
  );
}

const SHOWN = 4;

function Change({
  change,
  busy,
  onUndo,
  onBringBack,
  onView,
}: {
  change: Acceptance;
  busy: boolean;
  onUndo: () => void;
  onBringBack: () => void;
  onView: () => void;
}) {
  const { plan } = useWorkbench();
  const [all, setAll] = useState(false);
  const lines = all ? change.words : change.words.slice(0, SHOWN);
  return (
    <li className="border-t border-rule py-2">
      <p className="font-semibold">
        {WHAT[change.what] ?? change.what}
        {change.undone && <span className="font-normal text-ink-2"> (undone since)</span>}
      </p>
      <p className="text-ink-2">
        {dayClock(change.at, plan.time_zone)}, {longDate(change.at.slice(0, 10))}, by {change.actor}
      </p>
      <ul>
        {lines.map((line) => (
          <li key={line} className="[overflow-wrap:anywhere]">
            {line}
          </li>
        ))}
      </ul>
      {change.words.length > SHOWN && !all && (
        <button
          type="button"
          className="text-ink-2 underline underline-offset-2"
          onClick={() => setAll(true)}
        >
          {change.words.length - SHOWN} more
        </button>
      )}
      {!change.kept && (
        <p className="text-ink-2">The estates before and after are no longer kept.</p>
      )}
      {change.kept && (
        <p className="mt-1 flex gap-2">
          {!change.undone && change.what !== "undo" && (
            <Button small disabled={busy} onClick={onUndo}>
              Undo
            </Button>
          )}
          <Button small look="plain" onClick={onView}>
            Look at it
          </Button>
          <Button small look="plain" disabled={busy} onClick={onBringBack}>
            Bring it all back
          </Button>
        </p>
      )}
    </li>
  );
}
