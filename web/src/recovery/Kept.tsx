import { useMutation, useQueries, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import {
  forgetRecovery,
  keepRecovery,
  type Loss,
  recoveryQuery,
  savedKey,
  savedQuery,
  type SavedRecovery,
  type Way,
} from "../api/recoveryQueries";
import { clock, dayClock, MINUTE } from "../time/time";
import { AskButton } from "../ui/AskButton";
import { Button } from "../ui/Button";
import { Field } from "../ui/Field";
import { Sheet } from "../ui/Sheet";
import { useWorkbench } from "../workbench/store";
import { type Asked, NOTHING_ASKED } from "./asked";

/** Recoveries by name: kept, compared as the plan in hand would bring them back, opened again. */
export function Kept({
  asked,
  loss,
  way,
  onTake,
  onClose,
}: {
  asked: Asked;
  loss: Loss;
  way: Way;
  onTake: (asked: Asked) => void;
  onClose: () => void;
}) {
  const { plan, draft } = useWorkbench();
  const client = useQueryClient();
  const [name, setName] = useState("");
  const saved = useQuery(savedQuery(plan.id));
  const list = saved.data ?? [];
  const outcomes = useQueries({
    queries: list.map((each) => recoveryQuery(plan, draft, each.loss, each.way)),
  });
  const again = () => client.invalidateQueries({ queryKey: savedKey(plan.id) });
  const keep = useMutation({
    mutationFn: () => keepRecovery(plan.id, name, loss, way),
    onSuccess: () => {
      setName("");
      return again();
    },
  });
  const forget = useMutation({
    mutationFn: (id: number) => forgetRecovery(plan.id, id),
    onSuccess: again,
  });
  return (
    <Sheet label="Recoveries by name" title="Keep and compare" onClose={onClose}>
      <form
        onSubmit={(event) => {
          event.preventDefault();
          keep.mutate();
        }}
      >
        <Field
          label="Name of this recovery"
          value={name}
          onChange={(event) => setName(event.target.value)}
          wrong={keep.error?.message ?? null}
          note="One of the same name is replaced."
        />
        <Button type="submit" look="strong" disabled={!name.trim() || keep.isPending}>
          Keep
        </Button>
      </form>
      {saved.error && <p role="alert">{saved.error.message}</p>}
      {list.length > 0 && (
        <ul aria-label="Recoveries that are kept" className="space-y-3 pt-4">
          {list.map((each, i) => {
            const found = outcomes[i]?.data;
            const problem = outcomes[i]?.error;
            return (
              <li key={each.id}>
                <p className="font-semibold">{each.name}</p>
                <p className="text-ink-2">
                  {dayClock(each.loss.at, plan.time_zone)}, kept by {each.actor}
                </p>
                {problem && <p className="text-barn">{problem.message}</p>}
                {found?.tiers.map((tier) => (
                  <p key={tier.tier}>
                    {tier.tier}: {tier.back} of {tier.machines} back
                    {tier.last_back && `, the last ${dayClock(tier.last_back, plan.time_zone)}`}
                    {tier.late > 0 && (
                      <span className="text-barn">, {tier.late} not as promised</span>
                    )}
                  </p>
                ))}
                <p className="flex gap-1">
                  <Button small onClick={() => onTake(opened(each, asked, plan.time_zone))}>
                    Open
                  </Button>
                  <AskButton
                    small
                    question={`Forget ${each.name}?`}
                    onYes={() => forget.mutate(each.id)}
                  >
                    Forget
                  </AskButton>
                </p>
              </li>
            );
          })}
        </ul>
      )}
    </Sheet>
  );
}

/** A recovery that was kept, in hand again: its time of day, in the night on the week strip. */
function opened(saved: SavedRecovery, asked: Asked, zone: string): Asked {
  const { loss, way } = saved;
  const lost = (["sites", "clusters", "hosts", "repositories"] as const).flatMap((kind) =>
    (loss[kind] ?? []).map((name) => `${kind}:${name}`),
  );
  const after = way.begins ? (Date.parse(way.begins) - Date.parse(loss.at)) / MINUTE : 0;
  return {
    ...NOTHING_ASKED,
    ...asked,
    lost,
    machines: loss.machines ?? [],
    time: clock(loss.at, zone),
    after: Math.round(after),
    way: { ...NOTHING_ASKED.way, ...way, begins: null },
  };
}
