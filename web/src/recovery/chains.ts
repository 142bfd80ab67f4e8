import type { MachinePoint } from "../api/recoveryQueries";

export const keyOf = (point: MachinePoint) => `${point.job} ${point.repository} ${point.at}`;

/** The keys of a point and of all that needs it, directly or through others. */
export function fallenWith(points: readonly MachinePoint[], bad: MachinePoint): Set<string> {
  const mine = points.filter((p) => p.job === bad.job && p.repository === bad.repository);
  const fallen = new Set([keyOf(bad)]);
  const instants = new Set([bad.at]);
  // A base is never younger than what needs it.
  for (const point of [...mine].sort((a, b) => a.at.localeCompare(b.at)))
    if (point.base_at && instants.has(point.base_at) && point.at > bad.at) {
      instants.add(point.at);
      fallen.add(keyOf(point));
    }
  return fallen;
}

/** The newest point that can be used and restored, of those that have not fallen. */
export function newestGood(
  points: readonly MachinePoint[],
  fallen: ReadonlySet<string>,
): MachinePoint | null {
  const good = points.filter((point) => point.usable && point.way && !fallen.has(keyOf(point)));
  return good.reduce<MachinePoint | null>(
    (best, point) =>
      !best || point.at > best.at || (point.at === best.at && point.way!.full_s < best.way!.full_s)
        ? point
        : best,
    null,
  );
}
