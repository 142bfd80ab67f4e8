import { useMutation, useQueryClient } from "@tanstack/react-query";
import { clsx } from "clsx";
import { useId, useState } from "react";
import { type RestoreTests, type Rota, saveRota, testsQuery } from "../api/recoveryQueries";
import { Button } from "../ui/Button";
import { Choice } from "../ui/Choice";

const DAYS: NonNullable<Rota["days"]> = ["mon", "tue", "wed", "thu", "fri", "sat", "sun"];
const FIRST: Rota = {
  rules: [],
  at_once: 2,
  opens: "09:00",
  closes: "16:00",
  days: DAYS.slice(0, 5),
  host: null,
};
type Tier = RestoreTests["tiers"][number];
const TURNS: Partial<Record<Tier, number>> = { platinum: 14, gold: 30, silver: 90, bronze: 180 };

/** Who is tested how often, in which hours, so many at a time. */
export function RotaForm({
  plan,
  tests,
  onDone,
}: {
  plan: number;
  tests: RestoreTests;
  onDone: () => void;
}) {
  const client = useQueryClient();
  const id = useId();
  const [rota, setRota] = useState<Rota>(
    () =>
      tests.rota ?? {
        ...FIRST,
        rules: tests.tiers
          .filter((tier) => tier in TURNS)
          .map((tier) => ({ tier, every_days: TURNS[tier]! })),
      },
  );
  const save = useMutation({
    mutationFn: () => saveRota(plan, rota),
    onSuccess: (made) => {
      client.setQueryData(testsQuery(plan).queryKey, made);
      onDone();
    },
  });
  const days = (tier: Tier) => rota.rules.find((rule) => rule.tier === tier)?.every_days ?? "";
  const setDays = (tier: Tier, value: string) => {
    const rest = rota.rules.filter((rule) => rule.tier !== tier);
    const every = Math.min(3650, Math.max(1, Math.round(Number(value))));
    setRota({ ...rota, rules: value ? [...rest, { tier, every_days: every }] : rest });
  };
  const box = "h-7 rounded-[3px] border border-rule-strong bg-raised px-1.5";
  return (
    <form
      aria-label="The rota of restore tests"
      className="mt-2 border-y border-rule py-2"
      onSubmit={(event) => {
        event.preventDefault();
        save.mutate();
      }}
    >
      <div className="flex flex-wrap items-center gap-x-4 gap-y-1.5">
        {tests.tiers.map((tier) => (
          <label key={tier} className="whitespace-nowrap">
            {tier}: every machine once in{" "}
            <input
              type="number"
              min={1}
              max={3650}
              value={days(tier)}
              placeholder="never"
              onChange={(event) => setDays(tier, event.target.value)}
              className={clsx(box, "w-20")}
            />{" "}
            days
          </label>
        ))}
      </div>
      <div className="flex flex-wrap items-center gap-x-2 gap-y-1.5 pt-2">
        <label htmlFor={`${id}-opens`}>Between</label>
        <input
          id={`${id}-opens`}
          type="time"
          required
          value={rota.opens}
          onChange={(event) =>
            event.target.value && setRota({ ...rota, opens: event.target.value })
          }
          className={box}
        />
        <label htmlFor={`${id}-closes`}>and</label>
        <input
          id={`${id}-closes`}
          type="time"
          required
          value={rota.closes}
          onChange={(event) =>
            event.target.value && setRota({ ...rota, closes: event.target.value })
          }
          className={box}
        />
        <span role="group" aria-label="Days of the week" className="flex gap-1">
          {DAYS.map((day) => {
            const chosen = rota.days?.includes(day) ?? false;
            return (
              <Button
                key={day}
                small
                aria-pressed={chosen}
                className={chosen ? "bg-closed font-semibold" : "text-ink-2"}
                onClick={() => {
                  const left = (rota.days ?? []).filter((each) => each !== day);
                  setRota({ ...rota, days: chosen ? left : [...left, day] });
                }}
              >
                {day[0]!.toUpperCase() + day.slice(1)}
              </Button>
            );
          })}
        </span>
        <label className="whitespace-nowrap">
          at most{" "}
          <input
            type="number"
            required
            min={1}
            max={50}
            value={rota.at_once}
            onChange={(event) => setRota({ ...rota, at_once: Number(event.target.value) })}
            className={clsx(box, "w-16")}
          />{" "}
          at a time
        </label>
        <Choice
          lead="started on"
          value={rota.host ?? ""}
          options={[
            { value: "", label: "the host of each" },
            ...tests.hosts.map((host) => ({ value: host, label: host })),
          ]}
          onChange={(host) => setRota({ ...rota, host: host || null })}
        />
      </div>
      {save.error && (
        <p role="alert" className="pt-1 text-barn">
          {save.error.message}
        </p>
      )}
      <p className="flex gap-1.5 pt-2">
        <Button type="submit" look="strong" disabled={save.isPending}>
          Keep this rota
        </Button>
        <Button look="plain" onClick={onDone}>
          Cancel
        </Button>
      </p>
    </form>
  );
}
