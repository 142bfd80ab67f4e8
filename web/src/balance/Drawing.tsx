import type { Computation, useComputing } from "../api/balanceQueries";
import { Button } from "../ui/Button";
import { waitingWords } from "../ui/waitingWords";
import { count } from "../ui/words";

/** How far weeks are drawn, with what ends it; what was interrupted can be begun again. */
export function Drawing({
  of: drawn,
  total,
  computing,
}: {
  of: Computation;
  total: number;
  computing: ReturnType<typeof useComputing>;
}) {
  const { samples = 0, of = total, phase, ahead } = drawn.progress;
  if (drawn.state === "running")
    return (
      <p className="my-2 flex items-center gap-3">
        <progress value={samples} max={of} aria-label="Weeks simulated" className="accent-ink" />
        <span role="status">
          {phase === "waiting" ? `${waitingWords(ahead)}: ` : ""}
          {count(samples, "week")} of {of}
        </span>
        <Button onClick={() => computing.stop.mutate(drawn.id)}>Stop, take what there is</Button>
      </p>
    );
  if (drawn.state === "failed" || drawn.state === "interrupted")
    return (
      <p role="status" className="my-2 flex items-center gap-3">
        {drawn.message}{" "}
        <Button onClick={() => computing.resume.mutate(drawn.id)}>Simulate again</Button>
      </p>
    );
  return null;
}
