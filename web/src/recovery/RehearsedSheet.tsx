import { useQuery } from "@tanstack/react-query";
import { useDeferredValue, useId, useState } from "react";
import { type Loss, type Rehearsed, rehearsedQuery, type Way } from "../api/recoveryQueries";
import { dayClock, duration, MINUTE } from "../time/time";
import { Button } from "../ui/Button";
import { Sheet } from "../ui/Sheet";
import { count, percent } from "../ui/words";
import { useWorkbench } from "../workbench/store";
import { iso } from "./asked";

type OnItsWay = Rehearsed["machines"][number];

/** The recovery carried out in a simulated world: how far it is at an instant, and what came. */
export function RehearsedSheet({
  loss,
  way,
  zone,
  onClose,
}: {
  loss: Loss;
  way: Way;
  zone: string;
  onClose: () => void;
}) {
  const { plan, draft } = useWorkbench();
  const [seed, setSeed] = useState(1);
  const [minute, setMinute] = useState<number | null>(null);
  const id = useId();
  // The beginning is known from the first answer; the slider counts minutes from it.
  const whole = useQuery(rehearsedQuery(plan, draft, { loss, way, seed, at: null }));
  const begins = whole.data ? Date.parse(whole.data.begins) : 0;
  const length = whole.data ? Math.ceil((Date.parse(whole.data.ends) - begins) / MINUTE) : 0;
  const shown = minute === null ? null : Math.min(minute, length);
  const asked = useDeferredValue(shown);
  const at = asked === null || asked >= length ? null : iso(begins + asked * MINUTE);
  const found = useQuery(rehearsedQuery(plan, draft, { loss, way, seed, at }));
  const error = whole.error ?? found.error;
  const now = found.data;
  return (
    <Sheet label="Rehearsal of this recovery" title="Rehearsed" onClose={onClose}>
      <p className="text-ink-2">
        A simulated runner brings the machines back in a world of its own, in which rates differ
        from the plan. Nothing of it is written.
      </p>
      <p className="flex items-center gap-2 py-1">
        <span>World {seed}</span>
        <Button small onClick={() => setSeed(seed + 1)}>
          Another world
        </Button>
      </p>
      {error && (
        <p role="alert" className="text-barn">
          {error.message}
        </p>
      )}
      {!error && !now && <p role="status">Bringing them back …</p>}
      {now && now.machines.length > 0 && (
        <>
          <label htmlFor={id} className="block">
            As it stood at <b>{dayClock(now.at, zone)}</b>
          </label>
          <input
            id={id}
            type="range"
            min={0}
            max={length}
            step={5}
            value={shown ?? length}
            aria-valuetext={dayClock(now.at, zone)}
            onChange={(event) => setMinute(Number(event.target.value))}
            className="w-full accent-ink"
          />
          <p role="status" className="py-1">
            {inWords(now, zone)}
          </p>
          <table className="w-full border-collapse text-sm">
            <caption className="sr-only">Machines of the rehearsal</caption>
            <thead>
              <tr className="text-left text-ink-2">
                <th className="font-normal">Machine</th>
                <th className="font-normal">Then</th>
                <th className="text-right font-normal">Planned</th>
                <th className="text-right font-normal">Back</th>
              </tr>
            </thead>
            <tbody>
              {now.machines.slice(0, MOST).map((each) => (
                <tr key={each.machine} className="border-t border-rule/60">
                  <th scope="row" className="max-w-[120px] truncate text-left font-normal">
                    {each.machine}
                  </th>
                  <td>{stageOf(each)}</td>
                  <td className="text-right whitespace-nowrap">
                    {each.planned ? dayClock(each.planned, zone) : "–"}
                  </td>
                  <td
                    className={`text-right whitespace-nowrap ${isLate(each) ? "font-semibold text-barn" : ""}`}
                  >
                    {each.foreseen ? dayClock(each.foreseen, zone) : "–"}
                  </td>
                </tr>
              ))}
            </tbody>
          </table>
          {now.machines.length > MOST && (
            <p className="text-ink-2">
              The first {MOST} of {count(now.machines.length, "machine")}.
            </p>
          )}
        </>
      )}
    </Sheet>
  );
}

const MOST = 200;

const isLate = (each: OnItsWay) =>
  each.promised_by !== null && (each.foreseen === null || each.foreseen > each.promised_by);

function stageOf(each: OnItsWay): string {
  if (each.stage === "written") return `${percent(each.part)} written`;
  if (each.stage === "back") return `back, ${percent(each.part)} written`;
  return each.stage;
}

/** "41 of 76 back. As it goes, the last is back Sat 05:12, 14 min later than planned." */
function inWords(now: Rehearsed, zone: string): string {
  const back = now.machines.filter((each) => each.stage === "back" || each.stage === "whole");
  const last = (key: "planned" | "foreseen") =>
    Math.max(...now.machines.map((each) => (each[key] ? Date.parse(each[key]) : 0)));
  const [planned, foreseen] = [last("planned"), last("foreseen")];
  const later = (foreseen - planned) / 1000;
  const late = now.machines.filter(isLate).length;
  const all = now.at >= now.ends;
  return [
    `${back.length} of ${now.machines.length} back.`,
    foreseen > 0 &&
      `${all ? "The last was back" : "As it goes, the last is back"} ${dayClock(iso(foreseen), zone)}` +
        (Math.abs(later) >= 60
          ? `, ${duration(Math.abs(later))} ${later > 0 ? "later" : "earlier"} than planned.`
          : ", as planned."),
    late > 0 && `${count(late, "machine")} after the promised time.`,
  ]
    .filter(Boolean)
    .join(" ");
}
