import type { ImportChoices } from "../api/estateQueries";
import { keep, kept } from "../ui/kept";

/** How the columns of a file are taken, kept in the browser by name for files like it. */
export interface NamedMapping {
  mapping: Record<string, string>;
  unit: ImportChoices["unit"];
  /** Mappings kept before words could be mapped have none. */
  words?: ImportChoices["words"];
}

const keyOf = (plan: number) => `gambrel import mappings of plan ${plan}`;

export const keptMappings = (plan: number) => kept<Record<string, NamedMapping>>(keyOf(plan)) ?? {};

export const keepMapping = (plan: number, name: string, mapping: NamedMapping) =>
  keep(keyOf(plan), { ...keptMappings(plan), [name]: mapping });

/** A mapping without the columns that a file does not have. */
export const fitting = (mapping: Record<string, string>, columns: readonly string[]) =>
  Object.fromEntries(Object.entries(mapping).filter(([, column]) => columns.includes(column)));

export const sameColumns = (one: readonly string[], other: readonly string[]) =>
  [...one].sort().join("\n") === [...other].sort().join("\n");
