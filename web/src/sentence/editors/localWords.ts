/**
 * "2026-11-06T21:00" as "Fri 6 Nov 21:00": a wall-clock time as it is, in no zone of the
 * browser's.
 */
export function localWords(local: string): string {
  const at = new Date(`${local}:00Z`);
  const date = at.toLocaleDateString("en-GB", {
    weekday: "short",
    day: "numeric",
    month: "short",
    timeZone: "UTC",
  });
  return `${date.replace(",", "")} ${local.slice(11, 16)}`;
}
