import type { Recovery } from "../api/recoveryQueries";
import { dateClock, dayClock } from "../time/time";
import { OUTCOMES } from "./asked";

/** What is printed: the order, the points, the targets, the times, and a box to tick. */
export function PageToWorkFrom({ recovery }: { recovery: Recovery }) {
  const zone = recovery.time_zone;
  return (
    <section className="hidden print:block" aria-hidden>
      <h1 className="text-xl font-semibold">Recovery: {recovery.words}</h1>
      <p>
        Lost {dateClock(recovery.lost_at, zone)}; begins {dateClock(recovery.begins, zone)}.
      </p>
      <table className="mt-2 w-full border-collapse text-xs">
        <thead>
          <tr className="border-b border-ink text-left">
            {["", "Done", "Machine", "Tier", "Point", "From", "To", "Start", "Back", "By"].map(
              (head, i) => (
                <th key={i} className="pr-2">
                  {head}
                </th>
              ),
            )}
          </tr>
        </thead>
        <tbody>
          {recovery.machines.map((row, i) => (
            <tr key={row.machine} className="border-b border-rule">
              <td className="pr-2">{i + 1}</td>
              <td className="pr-2">
                <span className="inline-block h-3 w-3 border border-ink" />
              </td>
              <td className="pr-2 font-semibold">{row.machine}</td>
              <td className="pr-2">{row.tier}</td>
              <td className="pr-2">{row.point ? dateClock(row.point.at, zone) : ""}</td>
              <td className="pr-2">{row.point?.repository ?? ""}</td>
              <td className="pr-2">{row.target ?? "its own place"}</td>
              <td className="pr-2">{row.start ? dayClock(row.start, zone) : ""}</td>
              <td className="pr-2">
                {row.back
                  ? `${dayClock(row.back, zone)}${row.method === "instant" ? " (instant)" : ""}`
                  : OUTCOMES[row.outcome]}
              </td>
              <td>{row.promised_by ? dayClock(row.promised_by, zone) : ""}</td>
            </tr>
          ))}
        </tbody>
      </table>
    </section>
  );
}
