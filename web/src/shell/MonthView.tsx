import { useQueries } from "@tanstack/react-query";
import type { NightSummary } from "../api/client";
import { weekQuery } from "../api/planQueries";
import { addDays, clock, dateWords, mondayOf } from "../time/time";
import { Modal } from "../ui/Modal";
import { useRoving } from "../ui/roving";
import { Verdict } from "../ui/Verdict";
import { useWorkbench } from "../workbench/store";

const WEEKS = 5;

/** Five weeks of nights with their verdicts; a night chosen here is the night everywhere. */
export function MonthView({ open, onOpen }: { open: boolean; onOpen: (open: boolean) => void }) {
  const { date } = useWorkbench();
  const first = mondayOf(date);
  const day = dateWords(first);
  return (
    <Modal open={open} onOpen={onOpen} title={`Five weeks from ${day.day} ${day.month}`} wide>
      {open && <Weeks first={first} onChosen={() => onOpen(false)} />}
    </Modal>
  );
}

function Weeks({ first, onChosen }: { first: string; onChosen: () => void }) {
  const { plan, draft, date, goTo } = useWorkbench();
  const mondays = Array.from({ length: WEEKS }, (_, i) => addDays(first, 7 * i)).filter(
    (monday) => monday <= plan.last_night,
  );
  const weeks = useQueries({ queries: mondays.map((monday) => weekQuery(plan, draft, monday)) });
  const roving = useRoving<HTMLTableElement>();
  const choose = (night: NightSummary) => {
    goTo(night.date);
    onChosen();
  };
  return (
    <table ref={roving} className="w-full table-fixed text-sm">
      <caption className="sr-only">Nights of five weeks</caption>
      <thead>
        <tr className="text-left text-ink-2">
          {Array.from({ length: 7 }, (_, i) => (
            <th key={i} scope="col" className="py-1 font-medium">
              {dateWords(addDays(first, i)).long}
            </th>
          ))}
        </tr>
      </thead>
      <tbody>
        {mondays.map((monday, w) => {
          const week = weeks[w];
          if (!week?.data)
            return (
              <tr key={monday}>
                <td colSpan={7} role="status" className="h-14 border-t border-rule text-ink-2">
                  {week?.error ? week.error.message : "Simulating this week …"}
                </td>
              </tr>
            );
          return (
            <tr key={monday}>
              {week.data.nights.map((night) => (
                <td key={night.date} className="border-t border-rule p-0.5 align-top">
                  <button
                    type="button"
                    disabled={!night.forecast}
                    aria-current={night.date === date ? "date" : undefined}
                    onClick={() => choose(night)}
                    className={`block h-14 w-full rounded-[3px] border px-1.5 text-left ${night.date === date ? "border-ink bg-surface" : "border-transparent hover:bg-closed"}`}
                  >
                    <span className="flex items-baseline justify-between">
                      <strong>{dateWords(night.date).day}</strong>
                      <Verdict verdict={night.verdict} />
                    </span>
                    <span className="block text-xs text-ink-2">
                      {night.last_end ? `ends ${clock(night.last_end, plan.time_zone)}` : "–"}
                    </span>
                    <Bar night={night} />
                  </button>
                </td>
              ))}
            </tr>
          );
        })}
      </tbody>
    </table>
  );
}

/** How full the tightest load of the night is at its peak, and for how long it is full. */
function Bar({ night }: { night: NightSummary }) {
  const tight = night.tightest;
  const part = tight?.capacity ? Math.min(1, tight.full_s / (10 * 3600)) : 0;
  const hue =
    night.verdict === "over" ? "bg-barn" : night.verdict === "tight" ? "bg-hay" : "bg-slate";
  return (
    <span aria-hidden className="mt-0.5 block h-1.5 border border-rule-strong">
      <span className={`block h-full ${hue}`} style={{ width: `${part * 100}%` }} />
    </span>
  );
}
