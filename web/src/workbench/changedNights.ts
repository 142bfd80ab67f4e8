import type { NightSummary } from "../api/client";
import { clock, dateWords, duration } from "../time/time";

interface NightChange {
  date: string;
  verdict_before: string | null;
  verdict_after: string | null;
  end_before: string | null;
  end_after: string | null;
}

/** "Fri ends 05:54, 12 min later; tight becomes over" for a night that changes. */
export function nightLine(night: NightChange, zone: string): string {
  const day = dateWords(night.date).short;
  const turned =
    night.verdict_before === night.verdict_after
      ? ""
      : `; ${night.verdict_before} becomes ${night.verdict_after}`;
  if (!night.end_after || !night.end_before) return `${day}: other runs${turned}`;
  const by = (Date.parse(night.end_after) - Date.parse(night.end_before)) / 1000;
  const said =
    Math.abs(by) < 30 ? "as before" : `${duration(Math.abs(by))} ${by > 0 ? "later" : "earlier"}`;
  return `${day} ends ${clock(night.end_after, zone)}, ${said}${turned}`;
}

/** Whether a change is one that a planner would see: another verdict, or half a minute. */
export function isSeen(night: NightChange): boolean {
  if (night.verdict_before !== night.verdict_after) return true;
  if (!night.end_before || !night.end_after) return night.end_before !== night.end_after;
  return Math.abs(Date.parse(night.end_after) - Date.parse(night.end_before)) >= 30_000;
}

/** A line for each night of a week that ends otherwise or has another verdict. */
export function changedNights(
  before: NightSummary[],
  after: NightSummary[],
  zone: string,
): string[] {
  return after.flatMap((now, i) => {
    const was = before[i];
    if (!was?.forecast || !now.forecast) return [];
    const change = {
      date: now.date,
      verdict_before: was.verdict,
      verdict_after: now.verdict,
      end_before: was.last_end,
      end_after: now.last_end,
    };
    return isSeen(change) ? [nightLine(change, zone)] : [];
  });
}
