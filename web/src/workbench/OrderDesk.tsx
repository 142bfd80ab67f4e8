import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { giveOrder, type OrderKind, previewOrder, runsKey } from "../api/runQueries";
import { Button } from "../ui/Button";
import { useMay } from "./rights";

const NAMES: Record<OrderKind, string> = {
  run: "Run now",
  "run in full": "Run once in full",
  retry: "Retry",
  stop: "Stop",
  hold: "Hold",
  release: "Release",
  "hold tonight": "Hold for tonight",
  "let pass": "Let pass",
  "no verify": "Leave out the verify",
  "any proxy": "Any proxy",
  "more slots": "More slots",
};

/** Orders that are about a job, whichever of its machines are chosen. */
const OF_THE_JOB: ReadonlySet<OrderKind> = new Set([
  "hold",
  "release",
  "hold tonight",
  "let pass",
  "no verify",
  "any proxy",
]);

/** Orders for a job or some of its machines: each says what it would do before it is given. */
export function OrderDesk(props: {
  plan: number;
  job: string;
  /** Its machines that have failed: what a retry is about where none is chosen. */
  failed: readonly string[];
  /** Machines that were chosen by hand; none: all of the job. */
  chosen: readonly string[];
  kinds: readonly OrderKind[];
}) {
  const { plan, job, failed, chosen, kinds } = props;
  const mayPlan = useMay("plan");
  const [kind, setKind] = useState<OrderKind | null>(null);
  const client = useQueryClient();
  const machinesOf = (each: OrderKind | null) =>
    each === null || OF_THE_JOB.has(each)
      ? []
      : [...(chosen.length || each !== "retry" ? chosen : failed)];
  const machines = machinesOf(kind);
  const body = { kind: kind ?? "run", job, machines, proxy: null, slots: 0 };
  const effect = useQuery({
    queryKey: [...runsKey(plan), "order", job, kind, machines],
    queryFn: () => previewOrder(plan, body),
    enabled: kind !== null,
    placeholderData: (before) => before,
  });
  const give = useMutation({
    mutationFn: () => giveOrder(plan, body),
    onSuccess: () => {
      setKind(null);
      void client.invalidateQueries({ queryKey: runsKey(plan) });
    },
  });
  if (!mayPlan) return null;
  return (
    <section aria-label="Orders" className="border-t border-rule py-2">
      <div className="flex flex-wrap gap-1.5">
        {kinds.map((each) => (
          <Button
            key={each}
            small
            aria-pressed={kind === each}
            className={kind === each ? "bg-closed" : ""}
            onClick={() => setKind(kind === each ? null : each)}
          >
            {NAMES[each]}
            {machinesOf(each).length > 0 && ` (${machinesOf(each).length})`}
          </Button>
        ))}
      </div>
      {kind && (
        <div className="mt-2 border-l-2 border-rule-strong pl-2" role="status">
          {effect.isPending ? (
            <p className="text-ink-2">Simulating what it would do …</p>
          ) : effect.error ? (
            <p role="alert">{effect.error.message}</p>
          ) : (
            effect.data && (
              <>
                <p className="font-medium">{effect.data.words}</p>
                {effect.data.effect.map((line) => (
                  <p key={line}>{line}</p>
                ))}
                <div className="mt-1.5 flex gap-2">
                  <Button
                    small
                    look="strong"
                    disabled={!effect.data.possible || give.isPending}
                    onClick={() => give.mutate()}
                  >
                    Order
                  </Button>
                  <Button small look="plain" onClick={() => setKind(null)}>
                    Cancel
                  </Button>
                </div>
              </>
            )
          )}
          {give.error && <p role="alert">{give.error.message}</p>}
        </div>
      )}
    </section>
  );
}
