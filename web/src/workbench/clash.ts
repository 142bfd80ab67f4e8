import type { Operation } from "../api/client";
import type { Clash } from "./store";

/**
 * One's own operations without what is left to the others; `mine`: conflicts in which they stand.
 */
export function kept(
  clash: Pick<Clash, "yours" | "conflicts">,
  mine: ReadonlySet<number>,
): Operation[] {
  const given = clash.conflicts.filter((_, i) => !mine.has(i));
  const whole = new Set(given.filter((c) => c.key === null).map((c) => c.index));
  return clash.yours.flatMap((operation, index) => {
    if (whole.has(index)) return [];
    const keys = new Set(given.filter((c) => c.index === index).map((c) => c.key));
    if (!keys.size || !operation.changes) return [operation];
    const changes = Object.fromEntries(
      Object.entries(operation.changes).filter(([key]) => !keys.has(key)),
    );
    return Object.keys(changes).length ? [{ ...operation, changes }] : [];
  });
}
