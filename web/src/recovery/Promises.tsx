import { TableFiles } from "../ui/TableFiles";
import { useQuery } from "@tanstack/react-query";
import { clsx } from "clsx";
import { useState } from "react";
import { Link } from "react-router";
import { promisesQuery, type Promised } from "../api/recoveryQueries";
import { dateWords, dayClock, duration, mondayOf } from "../time/time";
import { Choice } from "../ui/Choice";
import { Pending } from "../ui/Pending";
import { useRoving } from "../ui/roving";
import { count } from "../ui/words";
import { planOf, useAddress } from "../workbench/address";
import { useWorkbench } from "../workbench/store";

type Night = Promised["nights"][number];

/** RPO and RTO: by tier and by machine, night by night of the week on the strip. */
export function Promises() {
  const { plan, draft, date } = useWorkbench();
  const { search } = useAddress();
  const found = useQuery(promisesQuery(plan, draft, mondayOf(date)));
  const [tier, setTier] = useState("all");
  const [which, setWhich] = useState<"broken" | "all">("broken");
  const roving = useRoving<HTMLTableElement>();
  if (found.error || !found.data)
    return <Pending error={found.error} text="Looking at what is promised …" />;
  const { dates, machines } = found.data;
  const tiers = [...new Set(machines.map((machine) => machine.tier))];
  const shown = machines.filter(
    (machine) =>
      (tier === "all" || machine.tier === tier) &&
      (which === "all" || machine.nights.some((night) => isBroken(night))),
  );
  return (
    <section
      aria-label="Promises"
      tabIndex={0}
      className="min-h-0 flex-1 overflow-y-auto px-4 pt-2 pb-4"
    >
      <p className="max-w-3xl text-base" role="status">
        {broken(machines)}{" "}
        <TableFiles
          of={`plans/${plan.id}/tables/promises`}
          what="Promises"
          query={{ day: mondayOf(date), draft: draft?.id }}
        />
      </p>
      <table className="reflows mt-2 border-collapse text-sm">
        <caption className="sr-only">Promises broken, by tier and night</caption>
        <thead>
          <tr className="text-left text-ink-2">
            <th className="pr-6 font-normal">Tier</th>
            {dates.map((day) => (
              <th key={day} className="pr-4 font-normal">
                {dateWords(day).short} {dateWords(day).day}
              </th>
            ))}
          </tr>
        </thead>
        <tbody>
          {tiers.map((each) => (
            <tr key={each} className="border-t border-rule">
              <th scope="row" className="pr-6 text-left font-semibold">
                {each}
              </th>
              {dates.map((day, i) => (
                <TierNight
                  key={day}
                  label={dateWords(day).short}
                  machines={machines.filter((machine) => machine.tier === each)}
                  night={i}
                />
              ))}
            </tr>
          ))}
        </tbody>
      </table>
      <div className="-ml-1.5 pt-3">
        <Choice
          lead="machines"
          value={which}
          options={[
            { value: "broken", label: "with a promise that is broken" },
            { value: "all", label: "all" },
          ]}
          onChange={(value) => setWhich(value as "broken" | "all")}
        />
        <Choice
          lead="tier"
          value={tier}
          options={[
            { value: "all", label: "all" },
            ...tiers.map((each) => ({ value: each, label: each })),
          ]}
          onChange={setTier}
        />
        <span className="text-ink-2">{count(shown.length, "machine")}</span>
      </div>
      <table ref={roving} className="reflows w-full border-collapse text-sm">
        <caption className="sr-only">Exposure and restore time of machines, night by night</caption>
        <thead className="sticky top-0 bg-ground">
          <tr className="text-left text-ink-2">
            <th className="font-normal">Machine</th>
            <th className="font-normal">Promised</th>
            {dates.map((day) => (
              <th key={day} className="font-normal">
                {dateWords(day).short} {dateWords(day).day}
              </th>
            ))}
          </tr>
        </thead>
        <tbody>
          {shown.slice(0, MOST_SHOWN).map((machine) => (
            <tr key={machine.machine} className="border-t border-rule/60 align-top">
              <th scope="row" className="pr-3 text-left font-normal whitespace-nowrap">
                <Link
                  to={{ search: `${planOf(search)}&part=points&machine=${machine.machine}` }}
                  className="underline decoration-1 underline-offset-3"
                >
                  {machine.machine}
                </Link>
              </th>
              <td className="pr-3 leading-tight whitespace-nowrap text-ink-2">
                {machine.rpo_s !== null && <>RPO {duration(machine.rpo_s)}</>}
                <br />
                {machine.rto_s !== null && <>RTO {duration(machine.rto_s)}</>}
              </td>
              {machine.nights.map((night, i) => (
                <td
                  key={dates[i]}
                  data-label={dateWords(dates[i]!).short}
                  className="pr-3 leading-tight whitespace-nowrap"
                >
                  <Cell night={night} zone={plan.time_zone} />
                </td>
              ))}
            </tr>
          ))}
        </tbody>
      </table>
      {shown.length > MOST_SHOWN && (
        <p className="pt-1 text-ink-2">
          The first {MOST_SHOWN} of {count(shown.length, "machine")}; choose a tier to see others.
        </p>
      )}
    </section>
  );
}

const MOST_SHOWN = 300;
const isBroken = (night: Night) => night.rpo_met === false || night.rto_met === false;

function broken(machines: readonly Promised[]): string {
  const rpo = machines.filter((m) => m.nights.some((night) => night.rpo_met === false)).length;
  const rto = machines.filter((m) => m.nights.some((night) => night.rto_met === false)).length;
  const promised = machines.filter((m) => m.rpo_s !== null || m.rto_s !== null).length;
  if (!promised)
    return "Nothing is promised of any machine: state an RPO and an RTO in the Estate.";
  if (!rpo && !rto)
    return `All of ${count(promised, "machine")} keep what was promised in every night of this week.`;
  const said = [];
  if (rpo) said.push(`${rpo} would lose more work than promised (RPO) in some night`);
  if (rto) said.push(`${rto} would be back later than promised (RTO), even restored alone`);
  return `Of ${count(promised, "machine")} with a promise, ${said.join("; ")}.`;
}

function TierNight({
  label,
  machines,
  night,
}: {
  label: string;
  machines: readonly Promised[];
  night: number;
}) {
  const rpo = machines.filter((m) => m.nights[night]?.rpo_met === false).length;
  const rto = machines.filter((m) => m.nights[night]?.rto_met === false).length;
  return (
    <td data-label={label} className="pr-4">
      {!rpo && !rto ? (
        <span className="text-ink-2">kept</span>
      ) : (
        <span className="text-barn">
          {[rpo && `RPO ${rpo}`, rto && `RTO ${rto}`].filter(Boolean).join(", ")} broken
        </span>
      )}
    </td>
  );
}

function Cell({ night, zone }: { night: Night; zone: string }) {
  return (
    <>
      <span className={clsx(night.rpo_met === false && "font-semibold text-barn")}>
        {night.exposure_s === null ? "no point" : duration(night.exposure_s)}
      </span>
      {night.worst_at && night.worst_since && (
        <span className="block text-xs text-ink-2">
          {dayClock(night.worst_at, zone)}, since {dayClock(night.worst_since, zone)}
        </span>
      )}
      {!night.worst_at && <br />}
      <span className={night.rto_met === false ? "font-semibold text-barn" : "text-ink-2"}>
        {night.restore_s === null ? "" : `back in ${duration(night.restore_s)}`}
      </span>
      {night.limited_by && (
        <span className="block max-w-34 truncate text-xs text-ink-2" title={night.limited_by}>
          limited by {night.limited_by}
        </span>
      )}
    </>
  );
}
