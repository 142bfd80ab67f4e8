import { useMutation, useQueryClient } from "@tanstack/react-query";
import { useId } from "react";
import { api, ApiProblem, data } from "../api/client";
import { Button } from "../ui/Button";
import { Mark } from "../ui/Mark";

export interface UnreadablePlan {
  plan: number;
  entries: { field: string; reason: string }[];
  good: { version: number; written_at: string } | null;
}

/** What the server says of a plan that cannot be opened; null where an error is another one. */
export function unreadablePlan(error: unknown): UnreadablePlan | null {
  if (!(error instanceof ApiProblem) || !error.problem.unreadable) return null;
  const { plan, last_good } = error.problem.unreadable;
  return { plan, entries: error.problem.errors ?? [], good: last_good };
}

/**
 * In place of a plan that cannot be opened: which entries are at fault, and the last good version.
 */
export function Unreadable({ plan }: { plan: UnreadablePlan }) {
  const client = useQueryClient();
  const heading = useId();
  const restore = useMutation({
    mutationFn: (version: number) =>
      data(
        api.POST("/api/v1/plans/{plan_id}/restore", {
          params: { path: { plan_id: plan.plan } },
          body: { version },
        }),
      ),
    onSuccess: () => client.resetQueries(),
  });
  return (
    <main aria-labelledby={heading} className="mx-auto flex max-w-2xl flex-col gap-3 p-6 text-base">
      <Mark size={32} />
      <h1 id={heading} className="text-xl font-semibold">
        This plan cannot be opened
      </h1>
      <p>
        These stored entries cannot be read. Nothing was changed or lost; they are still in the
        database.
      </p>
      <ul role="alert" className="border-y border-rule py-1">
        {plan.entries.map((entry) => (
          <li key={entry.field} className="py-0.5 [overflow-wrap:anywhere]">
            <strong>{entry.field}</strong> {entry.reason}
          </li>
        ))}
      </ul>
      {plan.good ? (
        <>
          <p>
            The last version that opens was written on{" "}
            {plan.good.written_at.slice(0, 16).replace("T", " at ")} UTC. What was adopted after it
            would no longer be in force.
          </p>
          <div>
            <Button
              look="strong"
              disabled={restore.isPending}
              onClick={() => {
                restore.mutate(plan.good?.version ?? 0);
              }}
            >
              Open that version
            </Button>
          </div>
        </>
      ) : (
        <p>No earlier version of it can be opened either.</p>
      )}
      {restore.error && <p role="alert">{restore.error.message}</p>}
    </main>
  );
}
