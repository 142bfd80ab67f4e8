import { useQuery } from "@tanstack/react-query";
import { validationQuery, type JobProblem } from "../api/versionQueries";
import { useWorkbench } from "../workbench/store";
import { Button } from "../ui/Button";
import { count } from "../ui/words";

/** What would stop this plan from being adopted, and what merely deserves a look. */
export function Checks({ onOpen }: { onOpen: (job: string, clause: string) => void }) {
  const { plan, draft, date, jobs } = useWorkbench();
  const found = useQuery({
    ...validationQuery(plan, draft, date),
    placeholderData: (before) => before,
  });
  if (found.error)
    return (
      <p role="alert" className="px-4">
        {found.error.message}
      </p>
    );
  if (!found.data)
    return (
      <p role="status" className="px-4">
        Checking the plan …
      </p>
    );
  const { stops, look, breaks } = found.data;
  const line = (problem: JobProblem, i: number) => (
    <li key={i} className="flex items-baseline gap-2 border-b border-rule py-1">
      <span aria-hidden className={problem.weight === "stops" ? "text-barn" : "text-hay-text"}>
        {problem.weight === "stops" ? "✕" : "▲"}
      </span>
      <Button
        small
        look="plain"
        className="font-medium"
        onClick={() => onOpen(problem.job, problem.clause)}
      >
        {jobs.get(problem.job)?.name ?? problem.job}
      </Button>
      <span>{problem.words}</span>
    </li>
  );
  return (
    <div
      className="min-h-0 flex-1 overflow-auto px-4 pb-4"
      tabIndex={0}
      role="region"
      aria-label="Check of the plan"
    >
      <h2 className="pt-1 text-lg font-semibold">
        {stops.length ? (
          <span className="text-barn">
            {count(stops.length, "thing")} would stop this plan from being adopted
          </span>
        ) : (
          "Nothing would stop this plan from being adopted"
        )}
      </h2>
      <ul aria-label="What stops it">{stops.map(line)}</ul>
      <h2 className="pt-4 text-lg font-semibold">
        {count(breaks.length, "finding")} of this week: something does not get done
      </h2>
      <ul aria-label="What breaks this week">
        {breaks.map((finding) => (
          <li key={finding.key} className="border-b border-rule py-1">
            <span className="font-medium">{finding.what}</span>{" "}
            <span className="text-ink-2">{finding.why}</span>
          </li>
        ))}
      </ul>
      <h2 className="pt-4 text-lg font-semibold">
        {count(look.length, "thing")} that deserve{look.length === 1 ? "s" : ""} a look
      </h2>
      <ul aria-label="What deserves a look">{look.map(line)}</ul>
    </div>
  );
}
