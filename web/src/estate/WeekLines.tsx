import { isSeen, nightLine } from "../workbench/changedNights";
import { useWorkbench } from "../workbench/store";

type Nights = Parameters<typeof nightLine>[0][];

/** What becomes of the nights of a week, a line for each that changes. */
export function WeekLines({ nights }: { nights: Nights }) {
  const { plan } = useWorkbench();
  const lines = nights.filter(isSeen).map((night) => nightLine(night, plan.time_zone));
  return (
    <ul aria-label="Effect on the week" className="mt-1">
      {lines.map((line) => (
        <li key={line}>{line}</li>
      ))}
      {!lines.length && <li className="text-ink-2">No night of this week changes.</li>}
    </ul>
  );
}
