import { useNavigate } from "react-router";
import { dateClock } from "../time/time";
import { AskButton } from "../ui/AskButton";
import { Button } from "../ui/Button";
import { count } from "../ui/words";
import { LED } from "../workbench/keys";
import { useWorkbench } from "../workbench/store";
import { forget, MOVES, type Unsaved, useOffered } from "../workbench/unsaved";

const MOST_NAMED = 3;

/** What was not saved when it was left: to go on with, or to give up. */
export function UnsavedLine() {
  const { plan, shelf, resume } = useWorkbench();
  const navigate = useNavigate();
  const offered = useOffered();
  if (!offered.length) return null;
  const edits = offered.reduce((sum, [, entry]) => sum + entry.edits, 0);
  const first = Math.min(...offered.map(([, entry]) => entry.at));
  const goOn = ([key, entry]: [string, Unsaved]) => {
    if (key === MOVES) resume();
    // The plan and draft in hand stand in the address; where it was edited is in what is kept.
    const [path = "", query = ""] = entry.address.split("?");
    const search = new URLSearchParams(query);
    for (const part of ["plan", "draft"]) {
      const now = new URLSearchParams(window.location.search).get(part);
      if (now) search.set(part, now);
    }
    // The line goes, and with it the button that was pressed; an editor takes the focus itself.
    const state = key === MOVES ? LED : null;
    void navigate({ pathname: path, search: search.toString() }, { state });
  };
  return (
    <section
      aria-label="Unsaved changes"
      className="print:hidden flex shrink-0 flex-wrap items-center gap-x-3 gap-y-1 border-b border-rule bg-surface px-4 py-1"
    >
      <p>
        <strong>{count(edits, "unsaved change")}</strong> from {dateClock(first, plan.time_zone)}
      </p>
      {offered.slice(0, MOST_NAMED).map((each) => (
        <Button key={each[0]} small onClick={() => goOn(each)}>
          Continue: {each[1].title}
        </Button>
      ))}
      {offered.length > MOST_NAMED && <span>and {offered.length - MOST_NAMED} more</span>}
      <AskButton
        small
        ask={edits > 1}
        question={`Discard ${count(edits, "unsaved change")}?`}
        detail={offered.map(([, entry]) => entry.title).join(", ") + "."}
        onYes={() => offered.forEach(([key]) => forget(shelf, key))}
      >
        Discard
      </AskButton>
    </section>
  );
}
