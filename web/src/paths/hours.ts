/** Weekly hours as painted quarters of an hour, and as the intervals of the plan file. */

export interface Interval {
  days: string[];
  from: string;
  to: string;
}

export const WEEKDAYS = ["mon", "tue", "wed", "thu", "fri", "sat", "sun"];
export const QUARTERS = 96;
export const WEEK = 7 * QUARTERS;

const two = (value: number) => String(value).padStart(2, "0");
const clockOf = (quarter: number) =>
  `${two(Math.floor((quarter % QUARTERS) / 4))}:${two((quarter % 4) * 15)}`;
const minutes = (time: string) => Number(time.slice(0, 2)) * 60 + Number(time.slice(3, 5));

/** Whether every time falls on a quarter of an hour, so that painting changes nothing else. */
export function isEven(intervals: readonly Interval[]): boolean {
  return intervals.every((i) => minutes(i.from) % 15 === 0 && minutes(i.to) % 15 === 0);
}

/** The painted quarters of a week, from Monday 00:00 on. */
export function paint<T>(
  intervals: readonly (Interval & { value: T })[],
  nothing: T,
  better: (a: T, b: T) => T,
): T[] {
  const cells = new Array<T>(WEEK).fill(nothing);
  for (const interval of intervals) {
    const from = Math.round(minutes(interval.from) / 15);
    const until = Math.round(minutes(interval.to) / 15);
    const length = until > from ? until - from : until - from + QUARTERS;
    for (const day of interval.days) {
      const start = WEEKDAYS.indexOf(day) * QUARTERS + from;
      for (let i = 0; i < length; i++) {
        const at = (start + i) % WEEK;
        const before = cells[at] as T;
        cells[at] = before === nothing ? interval.value : better(before, interval.value);
      }
    }
  }
  return cells;
}

/** The intervals that painted quarters make; each is at most a day long and begins on its day. */
export function intervalsOf<T>(cells: readonly T[], nothing: T): (Interval & { value: T })[] {
  const runs: { start: number; length: number; value: T }[] = [];
  const first = cells.findIndex((cell, i) => cell !== cells[(i + WEEK - 1) % WEEK]);
  const origin = first < 0 ? 0 : first;
  for (let i = 0; i < WEEK;) {
    const at = (origin + i) % WEEK;
    const value = cells[at] as T;
    let length = 1;
    while (i + length < WEEK && cells[(at + length) % WEEK] === value) length++;
    if (value !== nothing) {
      for (let done = 0; done < length; done += QUARTERS) {
        runs.push({ start: (at + done) % WEEK, length: Math.min(QUARTERS, length - done), value });
      }
    }
    i += length;
  }
  const grouped = new Map<string, Interval & { value: T }>();
  for (const run of runs.sort((a, b) => a.start - b.start)) {
    const day = WEEKDAYS[Math.floor(run.start / QUARTERS)] ?? "mon";
    const from = clockOf(run.start);
    const to = clockOf(run.start + run.length);
    const key = `${from} ${to} ${String(run.value)}`;
    const known = grouped.get(key);
    if (known) known.days.push(day);
    else grouped.set(key, { days: [day], from, to, value: run.value });
  }
  return [...grouped.values()];
}

const CAPITAL = (day: string) => day.charAt(0).toUpperCase() + day.slice(1);

/** "Mon to Fri", "Sat, Sun", "every day" */
export function daysInWords(days: readonly string[]): string {
  const sorted = WEEKDAYS.filter((day) => days.includes(day));
  if (sorted.length === 7) return "every day";
  const at = sorted.map((day) => WEEKDAYS.indexOf(day));
  const consecutive = at.every((value, i) => i === 0 || value === (at[i - 1] ?? 0) + 1);
  if (consecutive && sorted.length > 2)
    return `${CAPITAL(sorted[0] ?? "")} to ${CAPITAL(sorted.at(-1) ?? "")}`;
  return sorted.map(CAPITAL).join(", ");
}

export function intervalInWords(interval: Interval): string {
  const whole = interval.from === interval.to;
  return `${daysInWords(interval.days)} ${whole ? `from ${interval.from} for 24 h` : `${interval.from} to ${interval.to}`}`;
}

/** Hours that cannot be read; the message says what is wrong. */
export class HoursMistyped extends Error {}

const TIMES = /(\d{1,2}):(\d{2})\s*(?:-|–|to)\s*(\d{1,2}):(\d{2})/g;
const DAYS = `(?:${WEEKDAYS.join("|")})[a-z]*`;

function readDays(text: string): string[] {
  const said = text.trim().toLowerCase();
  if (!said || said === "every day" || said === "daily") return WEEKDAYS;
  if (said === "weekdays") return WEEKDAYS.slice(0, 5);
  if (said === "weekends") return WEEKDAYS.slice(5);
  const found = new Set<string>();
  for (const part of said.split(/\s*(?:,|\band\b)\s*/)) {
    const [, first, last] =
      new RegExp(`^(${DAYS})(?:\\s*(?:-|–|to)\\s*(${DAYS}))?$`).exec(part) ?? [];
    if (!first) throw new HoursMistyped(`“${part}” is no day: write mon, tue-fri or every day.`);
    const from = WEEKDAYS.indexOf(first.slice(0, 3));
    const to = WEEKDAYS.indexOf((last ?? first).slice(0, 3));
    for (let day = from; ; day = (day + 1) % 7) {
      found.add(WEEKDAYS[day]!);
      if (day === to) break;
    }
  }
  return WEEKDAYS.filter((day) => found.has(day));
}

function readTimes(text: string): { from: string; to: string }[] {
  const found = [...text.matchAll(TIMES)].map(([, h1, m1, h2, m2]) => {
    // Midnight may be written as the end of a day.
    const time = (h: string, m: string) => `${two(Number(h) % 24)}:${m}`;
    const times = { from: time(h1!, m1!), to: time(h2!, m2!) };
    if (Number(h1) > 24 || Number(h2) > 24 || Number(m1) > 59 || Number(m2) > 59)
      throw new HoursMistyped(`${h1}:${m1} to ${h2}:${m2} are no times of a day.`);
    if (Number(m1) % 15 || Number(m2) % 15)
      throw new HoursMistyped("Hours are painted in quarters: write :00, :15, :30 or :45.");
    return times;
  });
  const rest = text.replace(TIMES, "").replace(/\band\b|[,\s]/g, "");
  if (!found.length || rest)
    throw new HoursMistyped(`“${text.trim()}” are no hours: write 20:00-06:00.`);
  return found;
}

/**
 * The quarters of a week that typed hours mean: "20:00-06:00 except 16:00-17:00" for every day, or
 * "mon-fri 20:00-06:00; sat, sun 00:00-24:00". An exception after midnight belongs to its night.
 */
export function typedHours<T>(text: string, value: T, nothing: T): T[] {
  const cells = new Array<T>(WEEK).fill(nothing);
  const put = (intervals: Interval[], what: T) => {
    const painted = paint(
      intervals.map((interval) => ({ ...interval, value: true })),
      false,
      () => true,
    );
    painted.forEach((is, i) => {
      if (is) cells[i] = what;
    });
  };
  for (const clause of text.split(";").filter((part) => part.trim())) {
    const [said = "", without] = clause.split(/\bexcept\b/);
    const at = said.search(/\d/);
    if (at < 0) throw new HoursMistyped(`“${clause.trim()}” has no hours: write 20:00-06:00.`);
    const days = readDays(said.slice(0, at));
    const open = readTimes(said.slice(at));
    put(
      open.map((times) => ({ days, ...times })),
      value,
    );
    for (const times of without === undefined ? [] : readTimes(without)) {
      const later = open.some((o) => o.to <= o.from && times.from < o.from && times.from < o.to);
      const own = later ? days.map((day) => WEEKDAYS[(WEEKDAYS.indexOf(day) + 1) % 7]!) : days;
      put([{ days: own, ...times }], nothing);
    }
  }
  return cells;
}
