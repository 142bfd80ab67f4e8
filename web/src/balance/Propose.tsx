import { Allowed } from "../workbench/Allowed";
import { happeningWords } from "./happenings";
import { waitingWords } from "../ui/waitingWords";
import { useQuery } from "@tanstack/react-query";
import { useEffect, useMemo, useState } from "react";
import { Flag, NumberField } from "../ui/controls";
import { HouseRules, missing } from "./HouseRules";
import { Ladder, Losses } from "./Ladder";
import { nightsWords, RulesBroken } from "./RulesBroken";
import { ToBuy } from "./ToBuy";
import { useAddress } from "../workbench/address";
import { Silhouette } from "../ui/Silhouette";
import type { Operation } from "../api/client";
import { useDiscardOnLeave } from "../workbench/considering";
import { useWorkbench } from "../workbench/store";
import { clock, dateWords, duration, mondayOf } from "../time/time";
import { Button } from "../ui/Button";
import { TableFiles } from "../ui/TableFiles";
import { Choices } from "../ui/Choice";
import { Verdict } from "../ui/Verdict";
import { count, percent, resource } from "../ui/words";
import {
  type Bound,
  type Computation,
  computationsQuery,
  type Happening,
  isStale,
  newestFor,
  type NightTold,
  operationsOf,
  type ProposedMove,
  type RuleTold,
  type Rung,
  useComputing,
} from "../api/balanceQueries";
import {
  fallen,
  type HouseRule,
  keepSettings,
  keptSettings,
  MOVE_KINDS,
  type MoveKind,
  requestOf,
  scoreWords,
  type Settings,
  STANDS,
} from "./settings";

/**
 * Moves that make the week fit, each with its reason and what it does on its own; and how far any
 * plan could go.
 */
export function Propose() {
  const { plan, draft, date } = useWorkbench();
  const { search, set } = useAddress();
  const [settings, setSettings] = useState(() => keptSettings(plan.id));
  const found = useQuery(computationsQuery(plan.id, "balance"));
  const computing = useComputing(plan.id, "balance");
  const happens = useMemo(() => JSON.parse(search.get("happens") ?? "[]") as Happening[], [search]);
  const shown = newestFor(found.data, draft, date, happens);
  const problem = [computing.balance, computing.stop, computing.cancel, computing.resume].find(
    (each) => each.error,
  )?.error;
  const running = shown?.state === "running";
  const lastRules = (found.data?.[0]?.asked as { rules?: HouseRule[] } | undefined)?.rules;
  const wanted = { ...settings, rules: settings.rules ?? lastRules ?? [] };
  return (
    <div
      className="min-h-0 flex-1 overflow-auto px-4 pb-6"
      tabIndex={0}
      role="region"
      aria-label="Proposals"
    >
      <Asking
        settings={wanted}
        onChange={(chosen) => {
          keepSettings(plan.id, chosen);
          setSettings(chosen);
        }}
        happens={happens}
        running={running}
        onSearch={() => {
          set({ rung: null });
          computing.balance.mutate(requestOf(wanted, draft?.id ?? null, mondayOf(date), happens));
        }}
      />
      {problem && (
        <p role="alert" className="text-barn">
          {problem.message}
        </p>
      )}
      {running && (
        <Searching
          now={shown}
          onStop={() => computing.stop.mutate(shown.id)}
          onCancel={() => computing.cancel.mutate(shown.id)}
        />
      )}
      {shown?.state === "interrupted" && (
        <p role="status" className="my-2 flex items-center gap-3">
          A search was interrupted when Gambrel was stopped.{" "}
          <Button onClick={() => computing.resume.mutate(shown.id)}>Go on with it</Button>
        </p>
      )}
      {(shown?.state === "failed" || shown?.state === "cancelled") && (
        <p role="status" className="my-2">
          {shown.message}
        </p>
      )}
      {shown?.state === "done" && isStale(shown, plan) && (
        <p role="status" className="my-2">
          The plan has been changed since the last search. Look again for what is still to gain.
        </p>
      )}
      {shown && (shown.state === "done" || running) && !isStale(shown, plan) && (
        <Found key={shown.id} found={shown} />
      )}
      {!shown && !found.isPending && (draft?.changes.length ?? 0) > 0 && (
        <p role="status" className="mt-3 max-w-[80ch]">
          {count(draft?.changes.length ?? 0, "change")} in the draft. Look again for what is still
          to gain; lock on the board what shall stay as it is.
        </p>
      )}
      {!shown && !found.isPending && (
        <p className="mt-3 max-w-[80ch] text-ink-2">
          Gambrel looks for a week that fits: it moves fulls, shifts starts, spreads and pins, and
          simulates every week it thinks of. Locked jobs stay where they are. Nothing changes until
          you put moves into a draft.
        </p>
      )}
    </div>
  );
}

function Asking({
  settings,
  onChange,
  happens,
  running,
  onSearch,
}: {
  settings: Settings & { rules: HouseRule[] };
  onChange: (settings: Settings) => void;
  happens: readonly Happening[];
  running: boolean;
  onSearch: () => void;
}) {
  const { plan } = useWorkbench();
  const { set: setAddress } = useAddress();
  const [open, setOpen] = useState(false);
  const set = (some: Partial<Settings>) => onChange({ ...settings, ...some });
  const free = plan.jobs.filter((job) => !job.locked);
  const ready = settings.kinds.length > 0 && !settings.rules.some(missing);
  return (
    <form
      aria-label="What to look for"
      className="border-b border-rule pb-2"
      onSubmit={(event) => {
        event.preventDefault();
        if (!running && ready) onSearch();
      }}
    >
      <div className="flex flex-wrap items-center gap-2">
        <Allowed>
          <Button type="submit" look="strong" disabled={running || !ready}>
            Look for a better week
          </Button>
        </Allowed>
        <Choices
          lead="Moving"
          said={
            settings.jobs
              ? count(settings.jobs.length, "job")
              : `all ${free.length} jobs that are not locked`
          }
          values={settings.jobs ?? free.map((job) => job.id)}
          options={free.map((job) => ({ value: job.id, label: job.name }))}
          onChange={(jobs) => set({ jobs: jobs.length === free.length ? null : jobs })}
        />
        <Choices
          lead="By"
          said={count(settings.kinds.length, "kind") + " of move"}
          values={settings.kinds}
          options={MOVE_KINDS.map((kind) => ({
            value: kind.value,
            label: (
              <>
                {kind.label}
                {kind.costs && <span className="text-ink-2">{kind.costs}</span>}
              </>
            ),
          }))}
          onChange={(kinds) =>
            set({
              kinds: MOVE_KINDS.map((k) => k.value).filter((k) => kinds.includes(k)) as MoveKind[],
            })
          }
        />
        <Choices
          lead="Holding with"
          said={settings.stands.length ? standsWords(settings.stands) : "the week as planned"}
          values={settings.stands}
          options={STANDS}
          onChange={(stands) =>
            set({ stands: STANDS.map((s) => s.value).filter((s) => stands.includes(s)) })
          }
        />
        <Button look="plain" aria-expanded={open} onClick={() => setOpen(!open)}>
          at most {count(settings.mostMoves, "move")},{" "}
          {settings.weeks === 1 ? "this week" : `${settings.weeks} weeks`}, {settings.seconds} s, up
          to {percent(settings.comfort)} is comfortable
          {settings.rules.length > 0 && `, ${count(settings.rules.length, "rule")} of the house`}
        </Button>
      </div>
      {happens.length > 0 && (
        <p className="mt-1 text-ink-2">
          For a week in which {happens.map(happeningWords).join(" and ")}.{" "}
          <Button small look="plain" onClick={() => setAddress({ happens: null })}>
            For the plan as it is
          </Button>
        </p>
      )}
      {!settings.kinds.length && <p className="text-barn">Choose at least one kind of move.</p>}
      {!open && settings.rules.some(missing) && (
        <p className="text-barn">A rule of the house is not complete yet.</p>
      )}
      {open && (
        <div className="mt-2 grid max-w-[720px] grid-cols-4 gap-3">
          <NumberField
            label="Moves at most"
            value={settings.mostMoves}
            wrong={settings.mostMoves < 1 ? "at least 1" : null}
            onChange={(v) => v !== null && set({ mostMoves: Math.round(v) })}
          />
          <NumberField
            label="Weeks, 1 to 5"
            value={settings.weeks}
            wrong={settings.weeks < 1 || settings.weeks > 5 ? "1 to 5" : null}
            onChange={(v) => v !== null && set({ weeks: Math.round(v) })}
          />
          <NumberField
            label="Time"
            unit="seconds"
            value={settings.seconds}
            onChange={(v) => v !== null && set({ seconds: v })}
          />
          <NumberField
            label="Comfortable up to"
            unit="%"
            value={Math.round(settings.comfort * 100)}
            wrong={settings.comfort > 1 || settings.comfort <= 0 ? "1 to 100" : null}
            onChange={(v) => v !== null && set({ comfort: v / 100 })}
          />
        </div>
      )}
      {open && (
        <HouseRules rules={settings.rules} jobs={plan.jobs} onChange={(rules) => set({ rules })} />
      )}
    </form>
  );
}

/** Rules of the house that a search kept, and the nights in which the plan breaks them already. */
function RulesKept({ rules, nights }: { rules: readonly RuleTold[]; nights: number }) {
  if (!rules.length) return null;
  return (
    <section aria-label="Rules of the house" className="mt-3">
      <h3 className="font-semibold">Rules that every rung keeps</h3>
      <ul>
        {rules.map((rule) => (
          <li key={rule.words} className="border-t border-rule py-1">
            {rule.words}
            {rule.nights.length > 0 && (
              <span className="block text-hay-text">
                Broken by the plan as it is{" "}
                {rule.nights.length === nights ? "every night" : `on ${nightsWords(rule.nights)}`}:{" "}
                {rule.jobs.join(", ")}. A proposal may leave that as it is.
              </span>
            )}
          </li>
        ))}
      </ul>
    </section>
  );
}

const standsWords = (stands: Settings["stands"]) =>
  STANDS.filter((each) => stands.includes(each.value))
    .map((each) => each.label)
    .join(", ");

/** What is worked out once the search has ended, by phase. */
const AFTER_THE_SEARCH: Record<string, string> = {
  explaining: "Working out what each move brings",
  weighing: "Working out how sure each of these is, and what breaks it",
  buying: "Working out what would have to be bought",
};

/** Whether a search was for a plan to which something had happened. */
const isOfScenario = ({ asked }: Computation) =>
  ((asked as { happens?: unknown[] }).happens ?? []).length > 0;

function Searching({
  now,
  onStop,
  onCancel,
}: {
  now: Computation;
  onStop: () => void;
  onCancel: () => void;
}) {
  const { progress } = now;
  const asked = now.asked as { seconds?: number };
  const last = progress.curve?.at(-1);
  const rungs = progress.phase === "searching" ? (progress.rungs ?? []) : [];
  return (
    <section aria-label="The search" className="my-2">
      <div className="flex items-center gap-4">
        <Curve curve={progress.curve ?? []} until={asked.seconds ?? 30} />
        <p role="status" className="min-w-0 flex-1">
          <strong>
            {progress.phase === "waiting"
              ? waitingWords(progress.ahead)
              : (AFTER_THE_SEARCH[progress.phase ?? ""] ??
                `${count(progress.evaluations ?? 0, "week")} simulated`)}
          </strong>
          {progress.score && progress.phase === "searching" && (
            <span className="block text-ink-2">
              {count(progress.moves ?? 0, "move")} so far
              {progress.score?.fits ? ", the week fits" : ""}
              {progress.score &&
                scoreWords(progress.score, duration).length > 0 &&
                `; left: ${scoreWords(progress.score, duration).join(", ")}`}
              {last && ` · better last after ${Math.round(last.seconds)} s`}
            </span>
          )}
        </p>
        <Button onClick={onStop}>
          {progress.result ? "Stop, that will do" : "Stop, take the best so far"}
        </Button>
        <Button look="plain" onClick={onCancel}>
          Cancel
        </Button>
      </div>
      {rungs.length > 0 && (
        <ol aria-label="The best so far of each number of moves" className="mt-2 max-w-[80ch]">
          {rungs.map(({ moves, score }) => (
            <li key={moves} className="border-t border-rule py-1">
              <strong>{count(moves, "move")}</strong>
              {score.fits ? ": the week fits" : ""}
              {scoreWords(score, duration).length > 0 && (
                <span className="text-ink-2">; left: {scoreWords(score, duration).join(", ")}</span>
              )}
            </li>
          ))}
        </ol>
      )}
    </section>
  );
}

/** What is still wrong with the best week, over the time of the search. */
function Curve({
  curve,
  until,
}: {
  curve: readonly { seconds: number; grades: readonly number[] }[];
  until: number;
}) {
  const width = 180;
  const height = 40;
  const points = fallen(curve);
  const end = Math.max(until, points.at(-1)?.seconds ?? 0);
  const x = (s: number) => (s / end) * width;
  const y = (v: number) => 4 + (1 - v) * (height - 8);
  const path = points
    .map((p, i) =>
      i ? `H${x(p.seconds).toFixed(1)}V${y(p.value).toFixed(1)}` : `M0 ${y(p.value).toFixed(1)}`,
    )
    .join("");
  return (
    <svg
      viewBox={`0 0 ${width} ${height}`}
      width={width}
      height={height}
      role="img"
      aria-label="What is still wrong, over time"
      className="shrink-0"
    >
      <path d={`M0 ${height - 4}H${width}`} stroke="var(--rule-strong)" fill="none" />
      <path d={path} stroke="var(--ink)" strokeWidth="1.6" fill="none" />
    </svg>
  );
}

function Found({ found }: { found: Computation }) {
  const { plan } = useWorkbench();
  // While its rungs are weighed, what a search found is there already.
  const result = found.result ?? found.progress.result;
  const { search, set } = useAddress();
  const rungs = result?.rungs ?? [];
  // The choice stands in the address, so that it outlives a reload.
  const picked = rungs.findIndex((each) => String(each.moves.length) === search.get("rung"));
  // The fewest moves that fit are what most planners want; else the best there is.
  const first = rungs.findIndex((each) => each.reaches === "fits");
  const shown = picked >= 0 ? picked : first < 0 ? rungs.length - 1 : first;
  const rung = rungs[shown];
  if (!result?.before || !result.bound) return null;
  const best = rungs.at(-1);
  return (
    <div className="mt-2">
      <div className="flex items-baseline gap-3">
        <h2 className="text-lg font-semibold">
          {best
            ? result.after?.score.fits
              ? "The week can fit"
              : "The week can be better"
            : result.before.score.fits
              ? "The week fits as it is"
              : "Nothing better was found"}
        </h2>
        <span className="text-ink-2">
          {count(result.evaluations ?? 0, "week")} simulated in {Math.round(result.seconds ?? 0)} s
          {best && `; more than ${count(best.moves.length, "move")} bought nothing`}
          {result.ended === "stopped" ? " so far" : ""}
        </span>
      </div>
      {rungs.length > 0 && (
        <Ladder
          rungs={rungs}
          chosen={shown}
          onChoose={(i) => set({ rung: String(rungs[i]!.moves.length) })}
          before={result.before}
        />
      )}
      <div className="mt-2 grid grid-cols-[minmax(0,1fr)_420px] gap-6 narrow:grid-cols-1">
        {rung ? (
          <Moves key={`${found.id} ${rung.moves.length}`} found={found} rung={rung} />
        ) : (
          <span />
        )}
        <section aria-label="What becomes of the week">
          <Nights
            before={result.before.nights}
            after={(rung?.after ?? result.before).nights}
            zone={plan.time_zone}
          />
          {result.purchase && <ToBuy purchase={result.purchase} scenario={isOfScenario(found)} />}
          {rung && <Losses losses={rung.losses} />}
          {result.rules && <RulesKept rules={result.rules} nights={result.before.nights.length} />}
          <Limits bound={result.bound} />
        </section>
      </div>
    </div>
  );
}

/** The moves of a rung; what is ticked is what the week strip shows. */
function Moves({ found, rung }: { found: Computation; rung: Rung }) {
  const { consider, considered, put, busy, plan } = useWorkbench();
  const { moves } = rung;
  const [taken, setTaken] = useState<ReadonlySet<number>>(() => new Set(moves.map((m) => m.turn)));
  const scenario = isOfScenario(found);
  const {
    day,
    weeks = 1,
    rules = [],
  } = found.asked as {
    day: string;
    weeks?: number;
    rules?: HouseRule[];
  };
  const asked = { day, weeks, rules };
  const chosen = JSON.stringify(operationsOf(moves.filter((move) => taken.has(move.turn))));
  useEffect(() => {
    consider(JSON.parse(chosen) as Operation[]);
  }, [chosen, consider]);
  useDiscardOnLeave();
  // By turns: the order in which they are shown changes while their gains are worked out.
  const toggle = (turn: number) => {
    const now = new Set(taken);
    if (now.has(turn)) now.delete(turn);
    else now.add(turn);
    setTaken(now);
  };
  return (
    <section aria-label="Proposed moves">
      {scenario && (
        <p className="text-ink-2">
          Found as if something had happened; the week above shows the moves as things are.
        </p>
      )}
      <div className="my-1 flex items-center gap-2">
        <Button
          look="strong"
          disabled={busy === "saving" || !taken.size}
          onClick={() => void put(JSON.parse(chosen) as Operation[])}
        >
          Add{" "}
          {taken.size === moves.length
            ? moves.length === 1
              ? "it"
              : `all ${moves.length}`
            : count(taken.size, "move")}{" "}
          to the draft
        </Button>
        <Button small onClick={() => setTaken(new Set(moves.map((m) => m.turn)))}>
          All
        </Button>
        <Button small onClick={() => setTaken(new Set())}>
          None
        </Button>
        <span className="text-ink-2">
          {busy === "previewing"
            ? "simulating …"
            : considered.length
              ? "The nights above show what is ticked."
              : ""}
        </span>
        <TableFiles
          of={`plans/${plan.id}/tables/moves`}
          what="Proposed moves"
          query={{ computation: found.id }}
        />
      </div>
      {asked.rules.length > 0 && taken.size > 0 && taken.size < moves.length && (
        <RulesBroken asked={asked} operations={JSON.parse(chosen) as Operation[]} />
      )}
      <ol aria-label="Moves by gain">
        {moves.map((move) => (
          <MoveLine
            key={move.turn}
            move={move}
            running={found.state === "running"}
            taken={taken.has(move.turn)}
            onToggle={() => toggle(move.turn)}
          />
        ))}
      </ol>
    </section>
  );
}

function MoveLine({
  move,
  running,
  taken,
  onToggle,
}: {
  move: ProposedMove;
  running: boolean;
  taken: boolean;
  onToggle: () => void;
}) {
  return (
    <li className={`border-t border-rule py-1.5 ${taken ? "" : "opacity-75"}`}>
      <Flag label={<strong>{move.words}</strong>} value={taken} onChange={onToggle} />
      <p className="-mt-1.5 pl-[21px] text-ink-2">{move.reason}</p>
      <p className="pl-[21px]">
        {move.brings.length ? `On its own: ${lowered(move.brings)}.` : onItsOwn(move, running)}
      </p>
      {move.cost && <p className="pl-[21px] text-hay-text">What it costs: {move.cost}</p>}
    </li>
  );
}

const onItsOwn = ({ without }: ProposedMove, running: boolean) =>
  without
    ? "On its own it helps little; together with the others it does."
    : running
      ? "What it brings on its own is being worked out."
      : "What it brings on its own was not worked out: there was no more time.";

const lowered = (lines: readonly string[]) => lines.slice(0, 4).join("; ");

function Nights({
  before,
  after,
  zone,
}: {
  before: readonly NightTold[];
  after: readonly NightTold[];
  zone: string;
}) {
  const { week } = useWorkbench();
  const shape = new Map(week.map((night) => [night.date, night]));
  const said = (night: NightTold) => (
    <>
      <Verdict verdict={night.verdict} />{" "}
      <span className="text-ink-2">{night.last_end ? clock(night.last_end, zone) : "–"}</span>
      <span className="block text-xs text-ink-2">
        {[
          count(night.fulls, "full"),
          night.over_s > 0 && `${duration(night.over_s)} late`,
          night.lost > 0 && `${night.lost} not backed up`,
          night.skipped > 0 && `${night.skipped} skipped`,
        ]
          .filter(Boolean)
          .join(", ")}
      </span>
    </>
  );
  return (
    <table className="w-full text-sm">
      <caption className="sr-only">Nights before and after the proposal</caption>
      <thead>
        <tr className="border-b border-rule-strong text-left text-ink-2">
          <th scope="col" className="py-1 font-medium">
            Night
          </th>
          <th scope="col" className="font-medium">
            Now
          </th>
          <th scope="col" className="font-medium">
            Proposed
          </th>
          <th scope="col" className="font-medium">
            <span className="sr-only">Load</span>
          </th>
        </tr>
      </thead>
      <tbody>
        {after.map((night, i) => {
          const was = before[i];
          const now = shape.get(night.date);
          return (
            <tr key={night.date} className="border-b border-rule align-top">
              <th scope="row" className="w-16 py-1 text-left font-medium whitespace-nowrap">
                {dateWords(night.date).short} {dateWords(night.date).day}
              </th>
              <td className="w-32 py-1 pr-2">{was && said(was)}</td>
              <td className="w-32 py-1 pr-2">{said(night)}</td>
              <td className="w-24 py-0.5">{now && <Silhouette night={now} />}</td>
            </tr>
          );
        })}
      </tbody>
    </table>
  );
}

/** What no arrangement goes below. */
function Limits({ bound }: { bound: Bound }) {
  return (
    <section aria-label="How far any plan could go" className="mt-4">
      <h2 className="text-lg font-semibold">How far any plan could go</h2>
      <p className="max-w-[60ch]">{bound.words}</p>
      <ul aria-label="What each resource is needed for at least" className="mt-1">
        {bound.peaks.slice(0, 6).map((need) => (
          <li
            key={need.resource}
            className="my-1 grid grid-cols-[150px_1fr_auto] items-center gap-2"
          >
            <span className="truncate">{resource(need.resource)}</span>
            <span aria-hidden className="block h-2 border border-rule-strong">
              <span
                className={`block h-full ${need.part > 1 ? "bg-barn" : "bg-slate"}`}
                style={{ width: `${Math.min(1, need.part) * 100}%` }}
              />
            </span>
            <span className="text-ink-2">{percent(need.part)} at least</span>
          </li>
        ))}
      </ul>
    </section>
  );
}
