import { Allowed } from "../workbench/Allowed";
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { addRunner, removeRunner, runnersQuery } from "../api/runQueries";
import { dateClock } from "../time/time";
import { Button } from "../ui/Button";
import { Pick } from "../ui/controls";
import { Field } from "../ui/Field";
import { TableFiles } from "../ui/TableFiles";
import { Sheet } from "../ui/Sheet";
import { useWorkbench } from "../workbench/store";

const KINDS = [
  { value: "runner", label: "carries the plan out" },
  { value: "script", label: "reports its own runs only" },
];

/** Who may report runs of the plan: their tokens are made and revoked here. */
export function RunnerSheet({ plan, onClose }: { plan: number; onClose: () => void }) {
  const zone = useWorkbench().plan.time_zone;
  const client = useQueryClient();
  const found = useQuery(runnersQuery(plan));
  const [name, setName] = useState("");
  const [kind, setKind] = useState<"runner" | "script">("runner");
  const again = () => client.invalidateQueries({ queryKey: runnersQuery(plan).queryKey });
  const add = useMutation({
    mutationFn: () => addRunner(plan, name.trim(), kind),
    onSuccess: () => {
      setName("");
      void again();
    },
  });
  const remove = useMutation({
    mutationFn: (id: number) => removeRunner(plan, id),
    onSuccess: again,
  });
  return (
    <Sheet label="Runners" title="Runners" onClose={onClose}>
      <p className="pb-2 text-ink-2">
        A runner reads the adopted plan, carries it out and reports what happens. A script on a
        server reports its own runs.{" "}
        <TableFiles of={`plans/${plan}/tables/runners`} what="Runners" />
      </p>
      <ul aria-label="Runners of this plan">
        {found.data?.runners.map((runner) => (
          <li key={runner.id} className="border-t border-rule py-1.5">
            <p>
              <strong>{runner.name}</strong>{" "}
              <span className="text-ink-2">
                {runner.kind === "stand-in" ? "simulated" : runner.kind}
              </span>
            </p>
            <p className="text-sm text-ink-2">
              {runner.last_seen_at
                ? `last heard of ${dateClock(runner.last_seen_at, zone)}`
                : "never heard of"}
              {Math.abs(runner.clock_offset_s) > 60 &&
                `; its clock is ${Math.round(runner.clock_offset_s / 60)} min off, times are corrected`}
            </p>
            <Allowed right="administer">
              <Button
                small
                look="plain"
                disabled={remove.isPending}
                onClick={() => remove.mutate(runner.id)}
              >
                Revoke token
              </Button>
            </Allowed>
          </li>
        ))}
      </ul>
      <h3 className="border-t border-rule pt-2 font-semibold">Add a runner</h3>
      <Field label="Name" value={name} onChange={(event) => setName(event.target.value)} />
      <Pick
        label="It"
        value={kind}
        options={KINDS}
        onChange={(value) => setKind(value as typeof kind)}
      />
      <Allowed right="administer">
        <Button disabled={!name.trim() || add.isPending} onClick={() => add.mutate()}>
          Make a token
        </Button>
      </Allowed>
      {add.data && (
        <div role="status" className="mt-2 border border-rule-strong bg-raised p-2">
          <p>Copy this token now; it is shown once.</p>
          <code className="font-mono text-sm [overflow-wrap:anywhere]">{add.data.token}</code>
        </div>
      )}
      {(add.error ?? remove.error) && <p role="alert">{(add.error ?? remove.error)?.message}</p>}
    </Sheet>
  );
}
