import { ApiProblem } from "../api/client";
import { keyWords } from "../ui/words";
import { useWorkbench } from "./store";

interface FieldError {
  field: string;
  value?: unknown;
  reason: string;
}

/** What the API refused, as marks on the fields of a form. */
export interface Refusals {
  /** Why the value of a field was refused; null where it was not. */
  of: (key: string) => string | null;
  /** All that was refused, for what has no field of its own. */
  lines: string[];
}

/** "operations[0].changes.limits[2].mbit_per_s" is about the field "limits". */
const fieldOf = (path: string) =>
  path.replace(/^operations\[\d+\]\.(?:(?:value|changes)\.?)?/, "").split(/[.[]/)[0] ?? "";

/** One refusal as a sentence: "Limit (Mbit/s): “0” is not above 0". */
export function refusalWords({ field, value, reason }: FieldError): string {
  const words = keyWords(field);
  const said = typeof value === "string" || typeof value === "number" ? `“${value}” ` : "";
  return `${words.charAt(0).toUpperCase()}${words.slice(1)}: ${said}${reason}`;
}

/** The refusals of an answer of the API. */
export function refusalsOf(error: Error | null | undefined): Refusals {
  const errors = error instanceof ApiProblem ? (error.problem.errors ?? []) : [];
  const lines = errors.map(refusalWords);
  return {
    of: (key) => errors.find(({ field }) => fieldOf(field) === key)?.reason ?? null,
    lines: error && !lines.length ? [error.message] : lines,
  };
}

/** The refusals of what is being considered. */
export const useRefusals = (): Refusals => refusalsOf(useWorkbench().refused);
