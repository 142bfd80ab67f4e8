import { useQueries, useQuery } from "@tanstack/react-query";
import { Plus, Trash2 } from "lucide-react";
import { useState } from "react";
import { NumberField, Pick } from "../ui/controls";
import { choicesQuery } from "../api/jobQueries";
import { Link } from "react-router";
import { planOf, useAddress } from "../workbench/address";
import { Silhouette } from "../ui/Silhouette";
import { useWorkbench } from "../workbench/store";
import { clock, dateWords, duration, mondayOf } from "../time/time";
import { Button } from "../ui/Button";
import { useRoving } from "../ui/roving";
import { keep, kept } from "../ui/kept";
import { Verdict } from "../ui/Verdict";
import { Sweep } from "./Sweep";
import { HAPPENINGS, happeningOf, usualScenarios } from "./happenings";
import { type Happening, scenario } from "../api/balanceQueries";

/** The hosts that are lost in a scenario. */
const lostHosts = (happens: readonly Happening[]) =>
  happens.flatMap((each) =>
    each.happens === "LoseHost" && typeof each["host"] === "string" ? [each["host"]] : [],
  );

/** Where the day of the loss of some hosts is shown. */
function recoveryOf(search: URLSearchParams, hosts: readonly string[]): string {
  const to = new URLSearchParams(planOf(search));
  for (const host of hosts) to.append("lost", `hosts:${host}`);
  return to.toString();
}

const keyOf = (plan: number) => `gambrel what if of plan ${plan}`;

/**
 * Nights against scenarios: what becomes of the week if this or that happens, alone or together.
 */
export function WhatIf() {
  const { plan, draft, date, week } = useWorkbench();
  const { search, set } = useAddress();
  const [rows, setRows] = useState(
    () => kept<Happening[][]>(keyOf(plan.id)) ?? usualScenarios(plan, date),
  );
  const change = (now: Happening[][]) => {
    keep(keyOf(plan.id), now);
    setRows(now);
  };
  const roving = useRoving<HTMLTableElement>();
  const monday = mondayOf(date);
  const found = useQueries({
    queries: rows.map((happens) => ({
      queryKey: [
        "plan",
        plan.id,
        "what-if",
        draft?.id,
        draft?.revision,
        monday,
        JSON.stringify(happens),
      ],
      queryFn: ({ signal }: { signal: AbortSignal }) =>
        scenario(plan.id, draft, monday, happens, signal),
      staleTime: Infinity,
      retry: false,
    })),
  });
  return (
    <div
      className="min-h-0 flex-1 overflow-auto px-4 pb-6"
      tabIndex={0}
      role="region"
      aria-label="What if"
    >
      <table ref={roving} role="table" className="reflows w-full text-sm">
        <caption className="sr-only">Nights of the week in each scenario</caption>
        <thead>
          <tr className="border-b border-rule-strong text-left text-ink-2">
            <th scope="col" className="w-64 py-1 font-medium">
              If
            </th>
            {week.map((night) => (
              <th key={night.date} scope="col" className="font-medium">
                {dateWords(night.date).short} {dateWords(night.date).day}
              </th>
            ))}
            <th scope="col">
              <span className="sr-only">What to do</span>
            </th>
          </tr>
        </thead>
        <tbody>
          <tr className="border-b border-rule align-top">
            <th scope="row" className="py-1 text-left font-medium">
              nothing happens
            </th>
            {week.map((night) => (
              <Night key={night.date} night={night} />
            ))}
            <td />
          </tr>
          {rows.map((happens, i) => {
            const answer = found[i];
            return (
              <tr key={JSON.stringify(happens)} className="border-b border-rule align-top">
                <th scope="row" className="py-1 pr-2 text-left font-medium">
                  {answer?.data?.words.join(", and ") ?? happens.map((h) => h.happens).join(", ")}
                </th>
                {answer?.error && (
                  <td colSpan={7} role="alert" className="py-1 text-barn">
                    {answer.error.message}
                  </td>
                )}
                {answer?.isPending && (
                  <td colSpan={7} role="status" className="py-1 text-ink-2">
                    Simulating …
                  </td>
                )}
                {answer?.data?.nights.map((night) => (
                  <Night
                    key={night.date}
                    night={night}
                    was={week.find((n) => n.date === night.date)}
                  />
                ))}
                <td className="py-1 text-right whitespace-nowrap">
                  <Button
                    small
                    onClick={() => set({ show: null, happens: JSON.stringify(happens) })}
                  >
                    Balance it
                  </Button>{" "}
                  {lostHosts(happens).length > 0 && (
                    <Link
                      to={{
                        pathname: `/recovery/${date}`,
                        search: recoveryOf(search, lostHosts(happens)),
                      }}
                      className="inline-flex h-6 items-center px-1.5 underline decoration-1 underline-offset-3"
                    >
                      What comes back when
                    </Link>
                  )}
                  <Button
                    small
                    look="plain"
                    aria-label="Take this scenario away"
                    onClick={() => change(rows.filter((_, k) => k !== i))}
                  >
                    <Trash2 size={14} aria-hidden />
                  </Button>
                </td>
              </tr>
            );
          })}
        </tbody>
      </table>
      <Adding onAdd={(happens) => change([...rows, happens])} />
      <Sweep onBalance={(happens) => set({ show: null, happens: JSON.stringify(happens) })} />
    </div>
  );
}

type Summary = ReturnType<typeof useWorkbench>["week"][number];

function Night({ night, was }: { night: Summary; was?: Summary | undefined }) {
  const { plan } = useWorkbench();
  const worse = was && night.verdict !== was.verdict;
  return (
    <td className={`py-1 pr-1 ${worse ? "bg-closed" : ""}`}>
      <Verdict verdict={night.verdict} />{" "}
      <span className="text-ink-2">
        {night.last_end ? clock(night.last_end, plan.time_zone) : "–"}
      </span>
      {(night.over_s > 0 || night.missed > 0) && (
        <span className="block text-xs text-ink-2">
          {[
            night.over_s > 0 && `${duration(night.over_s)} late`,
            night.missed > 0 && `${night.missed} not backed up`,
          ]
            .filter(Boolean)
            .join(", ")}
        </span>
      )}
      <span className="block">
        <Silhouette night={night} before={was} />
      </span>
    </td>
  );
}

function Adding({ onAdd }: { onAdd: (happens: Happening[]) => void }) {
  const { plan, draft, date } = useWorkbench();
  const choices = useQuery(choicesQuery(plan, draft));
  const values = (choices.data?.values ?? {}) as Record<string, string[]>;
  const [together, setTogether] = useState<Happening[]>([]);
  const [which, setWhich] = useState(HAPPENINGS[0]!.happens);
  const kind = HAPPENINGS.find((each) => each.happens === which) ?? HAPPENINGS[0]!;
  const options =
    kind.happens === "LoseHost"
      ? (values["host"] ?? [])
      : kind.happens === "Grow"
        ? (values["folder"] ?? [])
        : (kind.choose?.options(plan) ?? []);
  const [chosen, setChosen] = useState("");
  const [typed, setTyped] = useState<number | null>(null);
  const all = kind.happens === "Grow";
  const choice = chosen && options.includes(chosen) ? chosen : all ? "" : (options[0] ?? "");
  const made = happeningOf(kind, choice, typed ?? kind.number?.begin ?? 0, date);
  const pick = [
    ...(all ? [{ value: "", label: "all data" }] : []),
    ...options.map((option) => ({ value: option, label: option })),
  ];
  return (
    <form
      aria-label="Another scenario"
      className="mt-3 flex flex-wrap items-end gap-3"
      onSubmit={(event) => {
        event.preventDefault();
        onAdd([...together, made]);
        setTogether([]);
      }}
    >
      <Pick
        label="What if"
        value={which}
        options={HAPPENINGS.map((each) => ({ value: each.happens, label: each.label }))}
        onChange={(v) => {
          setWhich(v);
          setTyped(null);
        }}
      />
      {kind.choose && (
        <Pick label={kind.choose.label} value={choice} options={pick} onChange={setChosen} />
      )}
      {kind.number && (
        <div className="w-28">
          <NumberField
            key={which}
            label={kind.number.label}
            value={typed ?? kind.number.begin}
            onChange={setTyped}
          />
        </div>
      )}
      {kind.happens === "CloseNight" && (
        <p className="mb-2 h-7 leading-7">
          {dateWords(date).long} {dateWords(date).day}, the night in hand
        </p>
      )}
      <span className="mb-2 flex items-center gap-2">
        <Button onClick={() => setTogether([...together, made])}>And …</Button>
        <Button type="submit" look="strong">
          <Plus size={14} aria-hidden /> Simulate it
        </Button>
        {together.length > 0 && (
          <span className="text-ink-2">
            together with{" "}
            {together.map((h) => Object.values(h).filter(Boolean).join(" ")).join(", ")}
          </span>
        )}
      </span>
    </form>
  );
}
