import type { Proposal, Way } from "../api/recoveryQueries";
import { dayClock } from "../time/time";
import { Button } from "../ui/Button";
import { Sheet } from "../ui/Sheet";
import { count } from "../ui/words";
import { useWorkbench } from "../workbench/store";

/** Ways that are better than the one in hand, the best first. */
export function Proposals({
  pending,
  error,
  found,
  onTake,
  onClose,
}: {
  pending: boolean;
  error: Error | null;
  found: { proposals: Proposal[] } | null;
  onTake: (way: Way) => void;
  onClose: () => void;
}) {
  const { plan } = useWorkbench();
  return (
    <Sheet label="Better ways back" title="Better ways back" onClose={onClose}>
      {pending && <p role="status">Trying orders, numbers, targets and instant starts …</p>}
      {error && (
        <p role="alert" className="text-barn">
          {error.message}
        </p>
      )}
      {found && !pending && !found.proposals.length && (
        <p role="status">None of the orders, numbers, targets and instant starts brings more.</p>
      )}
      {found && !pending && (
        <ol aria-label="Proposals" className="space-y-3">
          {found.proposals.map((each) => (
            <li key={each.words}>
              <p className="font-semibold">{each.words}</p>
              <p>
                {each.late === each.late_before
                  ? `${count(each.late, "machine")} not as promised, as now`
                  : `${each.late || "None"} instead of ${count(each.late_before, "machine")} not as promised`}
                {each.last_back && (
                  <>
                    ; the last is back {dayClock(each.last_back, plan.time_zone)}
                    {each.last_back_before &&
                      each.last_back_before !== each.last_back &&
                      ` (now ${dayClock(each.last_back_before, plan.time_zone)})`}
                  </>
                )}
                .
              </p>
              <Button small onClick={() => onTake(each.way)}>
                Take it
              </Button>
            </li>
          ))}
        </ol>
      )}
    </Sheet>
  );
}
