import fields from "../api/fields.json";
import { typedNumber } from "../ui/numbers";
import type { Item, List } from "../api/pathQueries";

/** The values of an item that are edited in fields, and how what is typed becomes a value. */

export interface FieldSpec {
  key: string;
  label: string;
  kind: "number" | "whole" | "text" | "flag" | "choice" | "ids" | "volumes" | "tiers";
  unit?: string;
  /** What an empty field means; without it, an empty field leaves the value alone. */
  empty?: string;
  options?: readonly string[];
  /** For ids: the list that they are of. */
  of?: List | "machines";
  /** How one value becomes another on the screen. */
  percent?: boolean;
}

/** Made by `./gambrel describe` from the declarations of the plan file's keys. */
export const FIELDS = fields as Record<List | "transports", FieldSpec[]>;

/** A value as it stands in its field. */
export function shownValue(spec: FieldSpec, value: unknown): string {
  if (value === null || value === undefined) return "";
  if (spec.kind === "volumes")
    return (value as { id: string; capacity_gib: number }[])
      .map((v) => `${v.id} ${v.capacity_gib}`)
      .join("; ");
  if (spec.kind === "tiers") return (value as Tier[]).map(tierWords).join("; ");
  if (spec.percent) return String(Number((Number(value) * 100).toPrecision(8)));
  return String(value);
}

export class Mistyped extends Error {}

/** The value that was typed. Throws Mistyped with the reason. */
export function typedValue(spec: FieldSpec, text: string): unknown {
  const said = text.trim();
  if (!said) {
    if (spec.kind === "volumes" || spec.kind === "tiers") return [];
    if (spec.empty !== undefined) return null;
    throw new Mistyped("is empty");
  }
  if (spec.kind === "number" || spec.kind === "whole") {
    const value = typedNumber(said);
    if (Number.isNaN(value)) throw new Mistyped("is not a number");
    return spec.percent ? Number((value / 100).toPrecision(10)) : value;
  }
  if (spec.kind === "volumes")
    return said
      .split(";")
      .filter((part) => part.trim())
      .map((part) => {
        const found = /^\s*(\S.*?)\s+([\d.,]+)\s*$/.exec(part);
        if (!found || Number.isNaN(typedNumber(found[2] ?? "")))
          throw new Mistyped(`"${part.trim()}" is not a name and a size`);
        return { id: found[1], capacity_gib: typedNumber(found[2] ?? "") };
      });
  if (spec.kind === "tiers")
    return said
      .split(";")
      .filter((part) => part.trim())
      .map(typedTier);
  return said;
}

interface Tier {
  id: string;
  after_days: number;
  minimum_days?: number;
  price_per_tib_month?: number | null;
  read_price_per_tib?: number | null;
  delay_min?: number;
}

/** What is said of a tier behind its age, each by a word of its own. */
const OF_A_TIER = {
  least: "minimum_days",
  price: "price_per_tib_month",
  reading: "read_price_per_tib",
  waits: "delay_min",
} as const;

function tierWords(tier: Tier): string {
  const more = Object.entries(OF_A_TIER)
    .filter(([, key]) => tier[key] !== null && tier[key] !== undefined && tier[key] !== 0)
    .map(([word, key]) => `, ${word} ${tier[key]}`);
  return `${tier.id} from ${tier.after_days} days${more.join("")}`;
}

function typedTier(part: string): Tier {
  const [begin = "", ...rest] = part.trim().split(/,\s+/);
  const found = /^(\S.*?)\s+from\s+([\d.]+)(\s+days?)?$/.exec(begin);
  if (!found) throw new Mistyped(`"${begin}" is not a name and an age, as "shelf from 90 days"`);
  const tier: Tier = { id: found[1]!, after_days: typedNumber(found[2]!) };
  for (const each of rest) {
    const [word = "", amount = ""] = each.trim().split(/\s+/);
    const key = OF_A_TIER[word as keyof typeof OF_A_TIER];
    const value = typedNumber(amount);
    if (!key || Number.isNaN(value))
      throw new Mistyped(`"${each}" is none of least, price, reading, waits with a number`);
    tier[key] = value;
  }
  return tier;
}

/** What is new about an item, by key, from what was typed. Values that stay are left out. */
export function changesOf(
  item: Item,
  typed: Readonly<Record<string, unknown>>,
): Record<string, unknown> {
  return Object.fromEntries(
    Object.entries(typed).filter(
      ([key, value]) => JSON.stringify(item.value[key] ?? null) !== JSON.stringify(value),
    ),
  );
}
