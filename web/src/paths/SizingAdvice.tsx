import { useEffect, useRef, useState } from "react";
import type { Operation } from "../api/client";
import { useDiscardOnLeave } from "../workbench/considering";
import { useWorkbench } from "../workbench/store";
import { clock, dateWords, dayClock, duration } from "../time/time";
import { Button } from "../ui/Button";
import { Verdict } from "../ui/Verdict";
import { bytes, count, percent } from "../ui/words";
import {
  type Advice,
  askSizing,
  type NightState,
  type Sizing,
  tryRemedy,
} from "../api/pathQueries";

interface Found {
  advice: Advice;
  /** What was already taken together when it was tried. */
  on: Advice[];
  takesAway: boolean;
}

const ROUNDS = 4;
const weight = (state: NightState) => state.over_s + state.lost * 3600;

/**
 * What a night lacks to fit, each piece simulated; what it could do without; what nothing changes.
 */
export function SizingAdvice() {
  const { plan, draft, date, consider, considered, put, busy } = useWorkbench();
  const [sizing, setSizing] = useState<Sizing | null>(null);
  const [found, setFound] = useState<Found[]>([]);
  const [step, setStep] = useState<{ done: number; of: number; words: string } | null>(null);
  const [finished, setFinished] = useState(false);
  const [problem, setProblem] = useState<string | null>(null);
  const flight = useRef<AbortController | null>(null);
  const night = dateWords(date);
  useDiscardOnLeave();
  useEffect(() => {
    const control = new AbortController();
    flight.current = control;
    askSizing(plan.id, { draft: draft?.id ?? null, night: date, operations: [] }, control.signal)
      .then(setSizing)
      .catch((error: unknown) => {
        if (!control.signal.aborted) setProblem((error as Error).message);
      });
    return () => flight.current?.abort();
  }, [plan.id, draft?.id, date]);

  const look = async () => {
    const control = new AbortController();
    flight.current = control;
    setFound([]);
    setFinished(false);
    setProblem(null);
    try {
      let on: Advice[] = [];
      let fits = sizing?.state.verdict !== "over";
      for (let round = 0; round < ROUNDS; round++) {
        const operations: Operation[] = on.flatMap((advice) => advice.operations);
        const asked = { draft: draft?.id ?? null, night: date, operations };
        const now = await askSizing(plan.id, asked, control.signal);
        // What you could remove is only asked once, of the plan as it is.
        const list = now.remedies.filter((remedy) => !remedy.takes_away || round === 0);
        let best: Advice | null = null;
        for (const [i, remedy] of list.entries()) {
          setStep({
            done: i,
            of: list.length,
            words: on.length
              ? `with ${on.map((a) => a.words).join(" and ")}: ${remedy.words}`
              : remedy.words,
          });
          const advice = await tryRemedy(plan.id, asked, remedy.key, control.signal);
          if (!advice.helps || !advice.after) continue;
          setFound((before) => [...before, { advice, on, takesAway: remedy.takes_away }]);
          if (!remedy.takes_away && (!best?.after || weight(advice.after) < weight(best.after)))
            best = advice;
          if (!remedy.takes_away && advice.fits) fits = true;
        }
        if (fits || !best) break;
        on = [...on, best];
      }
      setFinished(true);
    } catch (error) {
      if (!control.signal.aborted) setProblem((error as Error).message);
    }
    setStep(null);
  };

  const adds = found.filter((each) => !each.takesAway);
  const enough = adds.filter((each) => each.advice.fits);
  const helps = adds
    .filter((each) => !each.advice.fits && each.on.length === 0)
    .sort((a, b) => weight(a.advice.after as NightState) - weight(b.advice.after as NightState));
  const goes = found.filter((each) => each.takesAway);
  const line = (each: Found) => (
    <AdviceLine
      key={`${each.on.map((a) => a.key).join()} ${each.advice.key}`}
      each={each}
      busy={busy === "saving"}
      shown={JSON.stringify(considered) === JSON.stringify(operationsOf(each))}
      onShow={() => consider(operationsOf(each))}
      onPut={() => put(operationsOf(each))}
    />
  );
  return (
    <div
      tabIndex={0}
      role="region"
      aria-label="Sizing advice"
      className="min-h-0 flex-1 overflow-auto px-4 pb-4"
    >
      {problem && (
        <p role="alert" className="text-barn">
          {problem}
        </p>
      )}
      {!sizing && !problem && <p role="status">Adding up the night …</p>}
      {sizing && (
        <>
          <p className="text-base">
            {night.long} night is <Verdict verdict={sizing.state.verdict} />
            {sizing.state.last_end &&
              ` and ends ${dayClock(sizing.state.last_end, plan.time_zone)}`}
            {sizing.state.over_s > 0 &&
              `; runs end ${duration(sizing.state.over_s)} past their windows, all together`}
            {sizing.state.lost > 0 && `; ${count(sizing.state.lost, "machine")} not backed up`}.
            {sizing.pressed.length > 0 &&
              ` Full with others waiting: ${sizing.pressed.slice(0, 3).join(", ")}.`}
          </p>
          <p className="my-2 flex items-center gap-3">
            {step ? (
              <>
                <progress
                  value={step.done}
                  max={step.of}
                  aria-label="Remedies tried"
                  className="accent-ink"
                />
                <span role="status" className="min-w-0 flex-1 truncate">
                  Trying {step.done + 1} of {step.of}: {step.words}
                </span>
                <Button
                  onClick={() => {
                    flight.current?.abort();
                    setStep(null);
                  }}
                >
                  Stop
                </Button>
              </>
            ) : (
              <Button look="strong" onClick={() => void look()}>
                {found.length || finished
                  ? "Look again"
                  : `What would make ${night.long} fit, and what could you remove?`}
              </Button>
            )}
          </p>
          <div className="grid grid-cols-2 gap-6">
            <section>
              <h2 className="font-semibold">To fit</h2>
              {enough.length > 0 && <ul aria-label="Enough">{enough.map(line)}</ul>}
              {finished && !enough.length && sizing.state.verdict === "over" && (
                <p>
                  Nothing that was tried makes it fit alone or with others; what helps most stands
                  below.
                </p>
              )}
              {finished && sizing.state.verdict !== "over" && <p>It fits as it is.</p>}
              {helps.length > 0 && (
                <>
                  <h2 className="mt-3 font-semibold">Helps, and is not enough alone</h2>
                  <ul aria-label="Helps">{helps.map(line)}</ul>
                </>
              )}
              <h2 className="mt-3 font-semibold">Could go</h2>
              <p className="text-xs text-ink-2">
                Without it no night of the week ends more than 15 minutes later.
              </p>
              {finished && !goes.length && <p>Nothing: everything there is is used.</p>}
              <ul aria-label="Could go">{goes.map(line)}</ul>
            </section>
            <section aria-label="What must pass">
              <h2 className="font-semibold">What must pass, whatever the proxies</h2>
              <p className="text-xs text-ink-2">
                Bytes of the night’s runs against what can pass from the first start to the last
                window end.
              </p>
              <ul>
                {sizing.needs.slice(0, 10).map((need) => {
                  const late = need.share === null || need.share > 1;
                  return (
                    <li key={need.name} className="my-1.5">
                      <span className="flex items-baseline gap-2">
                        <span className="font-medium">{need.label}</span>
                        <span className={late ? "font-semibold text-barn" : "text-ink-2"}>
                          {need.share === null ? "closed" : percent(need.share)}
                        </span>
                      </span>
                      <span aria-hidden className="block h-2 w-60 border border-rule-strong">
                        <span
                          className={`block h-full ${late ? "bg-barn" : "bg-slate"}`}
                          style={{ width: `${Math.min(1, need.share ?? 1) * 100}%` }}
                        />
                      </span>
                      <span className="text-ink-2">
                        {late
                          ? `cannot carry its ${bytes(need.bytes)} before ${need.earliest ? dayClock(need.earliest, plan.time_zone) : "it opens again"}, and the windows end ${clock(need.by, plan.time_zone)}`
                          : `${bytes(need.bytes)} of ${count(need.jobs.length, "job")}, at the earliest by ${need.earliest ? clock(need.earliest, plan.time_zone) : "–"}; windows end ${clock(need.by, plan.time_zone)}`}
                      </span>
                    </li>
                  );
                })}
              </ul>
            </section>
          </div>
        </>
      )}
    </div>
  );
}

const operationsOf = (each: Found): Operation[] =>
  [...each.on, each.advice].flatMap((advice) => advice.operations);

function AdviceLine({
  each,
  shown,
  busy,
  onShow,
  onPut,
}: {
  each: Found;
  shown: boolean;
  busy: boolean;
  onShow: () => void;
  onPut: () => void;
}) {
  const { plan } = useWorkbench();
  const { advice } = each;
  const words = [...each.on.map((a) => a.words), advice.words];
  return (
    <li className="my-1.5 border-l-2 border-rule-strong pl-2">
      {words.map((w, i) => (
        <span key={w} className="block font-medium">
          {i > 0 && "and "}
          {w}
        </span>
      ))}
      {advice.after && !each.takesAway && (
        <span className="block text-ink-2">
          then <Verdict verdict={advice.after.verdict} />
          {advice.after.last_end && `, ends ${dayClock(advice.after.last_end, plan.time_zone)}`}
          {advice.after.over_s > 0 && `, ${duration(advice.after.over_s)} late`}
          {advice.after.lost > 0 && `, ${count(advice.after.lost, "machine")} not backed up`}
          {advice.tried > 1 && `; ${advice.tried} amounts simulated`}
        </span>
      )}
      <span className="mt-0.5 flex gap-1">
        <Button small aria-pressed={shown} onClick={onShow}>
          {shown ? "Shown above" : "See the week"}
        </Button>
        <Button small disabled={busy} onClick={onPut}>
          Add to draft
        </Button>
      </span>
    </li>
  );
}
