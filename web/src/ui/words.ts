/** Sizes, rates and counts as they stand on the screen. */

const GIB = 2 ** 30;

function plain(value: number, digits: number): string {
  return value.toLocaleString("en-GB", { maximumFractionDigits: digits });
}

/** "812 GiB", "8.4 TiB" */
export function bytes(value: number): string {
  const gib = value / GIB;
  if (gib >= 1024) return `${plain(gib / 1024, 1)} TiB`;
  if (gib >= 100) return `${plain(gib, 0)} GiB`;
  if (gib >= 1 || gib === 0) return `${plain(gib, 1)} GiB`;
  if (value >= 2 ** 20) return `${plain(value / 2 ** 20, 0)} MiB`;
  return `${plain(value / 2 ** 10, 0)} KiB`;
}

export function gib(value: number): string {
  return bytes(value * GIB);
}

/** An amount with its unit: "8 slots", "1.6 Gbit/s", "720 MiB/s". */
export function amount(value: number, unit: string): string {
  if (unit === "Mbit/s" && value >= 1000) return `${plain(value / 1000, 1)} Gbit/s`;
  if (unit === "slots") return `${plain(value, 0)} ${Math.round(value) === 1 ? "slot" : "slots"}`;
  return `${plain(value, value < 10 ? 1 : 0)} ${unit}`;
}

/** "1 machine", "12 machines" */
export function count(value: number, noun: string): string {
  const plural = /[^aeiou]y$/.test(noun)
    ? `${noun.slice(0, -1)}ies`
    : `${noun}${/(ss|x|ch|sh)$/.test(noun) ? "es" : "s"}`;
  return `${plain(value, 0)} ${value === 1 ? noun : plural}`;
}

export function percent(part: number): string {
  return `${Math.round(part * 100)} %`;
}

/** "proxy:quay-p2" as "proxy quay-p2": the short name of a resource or slot pool. */
export function resource(name: string): string {
  const slots = name.startsWith("slots:");
  const [kind = "", ident = ""] = name.replace(/^slots:/, "").split(/:(.*)/s);
  const nouns: Record<string, string> = {
    repository_read: "reading from",
    server_disk: "disk",
    server_nic: "NIC of",
    server_nic_2: "second NIC of",
    host_nic: "NIC of host",
    host_nic_2: "second NIC of host",
    host: "snapshots on host",
    agent: "agent on",
    transport: "the ceiling of one stream",
  };
  return `${slots ? "slots of " : ""}${nouns[kind] ?? kind} ${ident}`.trim();
}

/** A chance as weeks: "97 of 100 weeks", "no week", "every week". */
export function weeksOf(chance: number): string {
  const weeks = Math.round(chance * 100);
  return weeks >= 100 ? "every week" : weeks <= 0 ? "no week" : `${weeks} of 100 weeks`;
}

/** How keys end that have a unit, the unit, and what a key is called that is nothing but that. */
const UNITS: readonly [RegExp, string, string][] = [
  [/(^|_)gib$/, "GiB", "size"],
  [/(^|_)mbit_per_s$/, "Mbit/s", "rate"],
  [/(^|_)mib_per_s$/, "MiB/s", "rate"],
  [/(^|_)min$/, "min", "minutes"],
  [/(^|_)hours$/, "h", "hours"],
];
const CALLED: Readonly<Record<string, string>> = {
  ids: "machines by name",
  rpo: "RPO",
  rto: "RTO",
  id: "name",
  rrule: "recurrence rule",
};

/** A key as it stands on the screen: "operations[0].changes.limit_mbit_per_s", "limit (Mbit/s)". */
export function keyWords(path: string): string {
  const parts = path.replace(/\[\d+\]/g, "").split(".");
  const key = parts.filter((part) => part && part !== "*").at(-1) ?? path;
  const unit = UNITS.find(([ends]) => ends.test(key));
  const bare = unit ? key.replace(unit[0], "") : key;
  const words = CALLED[bare] ?? (bare.replaceAll("_", " ") || (unit?.[2] ?? key));
  return unit ? `${words} (${unit[1]})` : words;
}

/** A price, in whatever currency the prices are stated. */
export const money = (value: number) => value.toLocaleString("en-GB", { maximumFractionDigits: 2 });
