/** Instants, nights and durations as they stand on the screen. The only place that formats time. */

export const MINUTE = 60_000;
export const HOUR = 60 * MINUTE;
export const DAY = 24 * HOUR;

const formats = new Map<string, Intl.DateTimeFormat>();

function format(zone: string, options: Intl.DateTimeFormatOptions): Intl.DateTimeFormat {
  const key = zone + JSON.stringify(options);
  let found = formats.get(key);
  if (!found) {
    found = new Intl.DateTimeFormat("en-GB", { timeZone: zone, hourCycle: "h23", ...options });
    formats.set(key, found);
  }
  return found;
}

type InstantLike = string | number;
const toDate = (instant: InstantLike) => new Date(instant);

/** "21:30" */
export function clock(instant: InstantLike, zone: string): string {
  return format(zone, { hour: "2-digit", minute: "2-digit" }).format(toDate(instant));
}

/** "Fri" */
export function weekday(instant: InstantLike, zone: string): string {
  return format(zone, { weekday: "short" }).format(toDate(instant));
}

/** "Fri 21:30" */
export function dayClock(instant: InstantLike, zone: string): string {
  return `${weekday(instant, zone)} ${clock(instant, zone)}`;
}

/** "Fri 6 Nov 21:30" */
export function dateClock(instant: InstantLike, zone: string): string {
  const day = format(zone, { weekday: "short", day: "numeric", month: "short" });
  return `${day.format(toDate(instant)).replace(",", "")} ${clock(instant, zone)}`;
}

/** Milliseconds of an instant; `null` stays `null`. */
export function millis(instant: string): number;
export function millis(instant: string | null): number | null;
export function millis(instant: string | null): number | null {
  return instant === null ? null : Date.parse(instant);
}

/** "3 h 40 min", "12 min", "45 s" */
export function duration(seconds: number): string {
  if (seconds < 59.5) return `${Math.round(seconds)} s`;
  const minutes = Math.round(seconds / 60);
  const hours = Math.floor(minutes / 60);
  const rest = minutes % 60;
  if (!hours) return `${rest} min`;
  return rest ? `${hours} h ${rest} min` : `${hours} h`;
}

/** At least so long: minutes that are not whole are not told, so "44 min" for 44 min 59 s. */
export function durationAtLeast(seconds: number): string {
  return duration(seconds < 60 ? Math.floor(seconds) : Math.floor(seconds / 60) * 60);
}

/** A calendar date "2026-11-06", moved by days. */
export function addDays(date: string, days: number): string {
  const moved = new Date(`${date}T12:00:00Z`);
  moved.setUTCDate(moved.getUTCDate() + days);
  return moved.toISOString().slice(0, 10);
}

/** Days from one calendar date to another. */
export function daysBetween(from: string, to: string): number {
  return Math.round((Date.parse(`${to}T12:00:00Z`) - Date.parse(`${from}T12:00:00Z`)) / DAY);
}

/** The Monday of the week that holds a calendar date. */
export function mondayOf(date: string): string {
  return addDays(date, -((new Date(`${date}T12:00:00Z`).getUTCDay() + 6) % 7));
}

type DateWords = Record<"short" | "long" | "day" | "month" | "year", string>;

// A long table says the same dates over and over; formatting them takes time.
const named = new Map<string, DateWords>();

/** Parts of a calendar date in words. */
export function dateWords(date: string): DateWords {
  let known = named.get(date);
  if (!known) named.set(date, (known = wordsOf(date)));
  return known;
}

function wordsOf(date: string): DateWords {
  const noon = `${date}T12:00:00Z`;
  const one = (options: Intl.DateTimeFormatOptions) => format("UTC", options).format(toDate(noon));
  return {
    short: one({ weekday: "short" }),
    long: one({ weekday: "long" }),
    day: one({ day: "numeric" }),
    month: one({ month: "long" }),
    year: one({ year: "numeric" }),
  };
}

/** Minutes after midnight of "HH:MM". */
export function minutesOf(time: string): number {
  const [hours, minutes] = time.split(":").map(Number);
  return (hours ?? 0) * 60 + (minutes ?? 0);
}

/** "HH:MM" of minutes after midnight, and how many days those minutes reach over. */
export function timeOf(minutes: number): { time: string; days: number } {
  const days = Math.floor(minutes / 1440);
  const rest = minutes - days * 1440;
  const two = (value: number) => String(value).padStart(2, "0");
  return { time: `${two(Math.floor(rest / 60))}:${two(rest % 60)}`, days };
}

/** The full hours between two instants, at steps of so many hours of the local clock. */
export function hourTicks(from: number, to: number, step: number, zone: string): number[] {
  const ticks = [];
  for (let at = Math.ceil(from / HOUR) * HOUR; at <= to; at += HOUR) {
    if (hourOf(at, zone) % step === 0) ticks.push(at);
  }
  return ticks;
}

// Formatting is too slow for every hour of a week in every frame while the board is moved.
const hours = new Map<string, Map<number, number>>();

function hourOf(at: number, zone: string): number {
  let known = hours.get(zone);
  if (!known) hours.set(zone, (known = new Map<number, number>()));
  let hour = known.get(at);
  if (hour === undefined)
    known.set(at, (hour = Number(format(zone, { hour: "2-digit" }).format(at))));
  return hour;
}

/** "20 Aug 2026" */
export function longDate(date: string): string {
  const { day, month, year } = dateWords(date);
  return `${day} ${month.slice(0, 3)} ${year}`;
}
