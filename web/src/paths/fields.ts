import { typedNumber } from "../ui/numbers";
import type { Item, List } from "./queries";

/** The values of an item that are edited in fields, and how what is typed becomes a value. */

export interface FieldSpec {
  key: string;
  label: string;
  kind: "number" | "whole" | "text" | "flag" | "choice" | "ids" | "volumes";
  unit?: string;
  /** What an empty field means; without it, an empty field leaves the value alone. */
  empty?: string;
  options?: readonly string[];
  /** For ids: the list that they are of. */
  of?: List | "machines";
  /** How one value becomes another on the screen. */
  percent?: boolean;
}

const number = (key: string, label: string, unit: string, empty?: string): FieldSpec => ({
  key, label, kind: "number", unit, ...(empty !== undefined && { empty }),
});
const whole = (key: string, label: string, empty?: string): FieldSpec => ({
  key, label, kind: "whole", ...(empty !== undefined && { empty }),
});

export const FIELDS: Record<List, FieldSpec[]> = {
  sites: [
    { key: "name", label: "Name", kind: "text" },
    { key: "time_zone", label: "Time zone", kind: "text" },
  ],
  links: [
    number("mbit_per_s", "Carries", "Mbit/s"),
    { key: "encrypted", label: "What it carries is encrypted", kind: "flag" },
    { key: "encryption_factor", label: "Left of its rate by encryption", kind: "number", unit: "%", percent: true },
  ],
  hosts: [
    number("nic_mbit_per_s", "Network", "Mbit/s", "no limit"),
    whole("snapshot_slots", "Snapshots at once", "no limit"),
    { key: "proxies", label: "Its machines are read by", kind: "ids", of: "proxies", empty: "any proxy" },
  ],
  datastores: [
    number("read_mib_per_s", "Reads", "MiB/s", "no limit"),
    whole("task_slots", "Disks at once", "no limit"),
  ],
  proxies: [
    whole("slots", "Slots"),
    number("mib_per_s", "Throughput", "MiB/s", "no limit"),
    { key: "throughput_from", label: "Throughput is", kind: "choice", options: ["stated", "learned"] },
    whole("cores", "Cores", "not known"),
    number("memory_gib", "Memory", "GiB", "not known"),
    { key: "direct_datastores", label: "Reads directly", kind: "ids", of: "datastores" },
    { key: "left_out_datastores", label: "Leaves out", kind: "ids", of: "datastores" },
    { key: "on_host", label: "Runs on the host", kind: "text", empty: "no host" },
    { key: "on_machine", label: "Is the machine", kind: "text", empty: "none of the estate" },
    { key: "physical", label: "A physical machine", kind: "flag" },
  ],
  repositories: [
    { key: "kind", label: "Kind", kind: "choice", options: ["disk", "deduplicating", "object", "tape"] },
    number("capacity_gib", "Space", "GiB", "not known"),
    { key: "volumes", label: "Volumes of the pool, each a name and GiB", kind: "volumes" },
    { key: "placement", label: "A new point goes to the volume with", kind: "choice", options: ["most free", "chain together"] },
    whole("stream_slots", "Streams at once", "no limit"),
    number("ingest_mib_per_s", "Takes in", "MiB/s", "no limit"),
    number("read_mib_per_s", "Reads", "MiB/s", "no limit"),
    number("transform_mib_per_s", "Transforms, each", "MiB/s", "no limit"),
    number("dedupe_ratio", "Deduplicates", ": 1"),
    number("immutable_days", "Immutable for", "days"),
    { key: "block_clone", label: "Clones blocks", kind: "flag" },
  ],
  windows: [{ key: "time_zone", label: "Time zone", kind: "text" }],
  calendars: [],
};

/** A value as it stands in its field. */
export function shownValue(spec: FieldSpec, value: unknown): string {
  if (value === null || value === undefined) return "";
  if (spec.kind === "volumes")
    return (value as { id: string; capacity_gib: number }[]).map((v) => `${v.id} ${v.capacity_gib}`).join("; ");
  if (spec.percent) return String(Number((Number(value) * 100).toPrecision(8)));
  return String(value);
}

export class Mistyped extends Error {}

/** The value that was typed. Throws Mistyped with the reason. */
export function typedValue(spec: FieldSpec, text: string): unknown {
  const said = text.trim();
  if (!said) {
    if (spec.kind === "volumes") return [];
    if (spec.empty !== undefined) return null;
    throw new Mistyped("is empty");
  }
  if (spec.kind === "number" || spec.kind === "whole") {
    const value = typedNumber(said);
    if (Number.isNaN(value)) throw new Mistyped("is not a number");
    return spec.percent ? Number((value / 100).toPrecision(10)) : value;
  }
  if (spec.kind === "volumes")
    return said.split(";").filter((part) => part.trim()).map((part) => {
      const found = /^\s*(\S.*?)\s+([\d.,]+)\s*$/.exec(part);
      if (!found || Number.isNaN(typedNumber(found[2] ?? ""))) throw new Mistyped(`"${part.trim()}" is not a name and a size`);
      return { id: found[1], capacity_gib: typedNumber(found[2] ?? "") };
    });
  return said;
}

/** What is new about an item, by key, from what was typed. Values that stay are left out. */
export function changesOf(item: Item, typed: Readonly<Record<string, unknown>>): Record<string, unknown> {
  return Object.fromEntries(
    Object.entries(typed).filter(([key, value]) => JSON.stringify(item.value[key] ?? null) !== JSON.stringify(value)),
  );
}
