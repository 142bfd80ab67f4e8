import { useMutation, useQueryClient } from "@tanstack/react-query";
import { type LearnedRuleKind, setStandingRule } from "../api/estateQueries";
import { Flag } from "../ui/controls";

/** A switch: Gambrel takes over what the ledger shows whenever a night begins. */
export function LearnedRule({
  plan,
  kind,
  on,
}: {
  plan: number;
  kind: LearnedRuleKind;
  on: boolean;
}) {
  const client = useQueryClient();
  const rule = useMutation({
    mutationFn: (to: boolean) => setStandingRule(plan, kind, to ? "accept" : null),
    onSuccess: () => client.invalidateQueries({ queryKey: ["plan", plan] }),
  });
  return (
    <>
      <Flag
        label="Each noon, take over what does not hold"
        value={rule.isPending ? rule.variables : on}
        onChange={(to) => rule.mutate(to)}
      />
      {rule.error && (
        <span role="alert" className="text-barn">
          {rule.error.message}
        </span>
      )}
    </>
  );
}
