import { problemLines } from "./useEstateChange";

/** What went wrong with a change of the estate, line by line. */
export function ProblemLines({ problem }: { problem: Error | null }) {
  return problemLines(problem).map((line) => (
    <p key={line} role="alert" className="text-barn">
      {line}
    </p>
  ));
}
