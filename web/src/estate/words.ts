import { daysBetween } from "../time/time";

/** "74 days", "3 weeks", "5 months": how long ago a date was, on a day. */
export function since(date: string, on: string): string {
  const days = Math.max(0, daysBetween(date, on));
  if (days < 21) return days === 1 ? "1 day" : `${days} days`;
  if (days < 70) return `${Math.round(days / 7)} weeks`;
  if (days < 730) return `${Math.round(days / 30.4)} months`;
  return `${Math.round(days / 365)} years`;
}

export const COVERAGE_MARKS: Record<string, { mark: string; tone: string }> = {
  "not protected": { mark: "○", tone: "text-barn font-semibold" },
  stale: { mark: "◔", tone: "text-hay-text font-semibold" },
  twice: { mark: "◉", tone: "text-hay-text" },
  protected: { mark: "●", tone: "text-ink" },
  "left out": { mark: "–", tone: "text-ink-2" },
  gone: { mark: "×", tone: "text-ink-2" },
};

export const CHANGE_FROM: Record<string, string> = {
  stated: "stated by a planner",
  learned: "learned from past runs",
  role: "usual for its role",
  reported: "reported by its source",
};

export const HAZARDS: Record<string, string> = {
  snapshot: "old snapshot",
  "backup disk": "backup disk",
  off: "off",
  "no quiesce": "no quiesce",
};
