/** Where the time of a machine-run went, in words. */

import type { TimePart } from "../api/client";
import { duration } from "../time/time";

/** What the parts of an account are called, and which look they have on the strip. */
export const PARTS: Record<string, { verb: string; look: string }> = {
  window: { verb: "waits for its window", look: "bg-closed" },
  slot: { verb: "waits", look: "bg-rule-strong" },
  preparing: { verb: "prepares", look: "bg-ink-2" },
  "disk slot": { verb: "waits between disks", look: "bg-rule-strong" },
  moving: { verb: "moves", look: "bg-slate" },
  releasing: { verb: "releases", look: "bg-sage" },
  "transform slot": { verb: "waits for the repository", look: "bg-rule-strong" },
  transforming: { verb: "is transformed", look: "bg-ochre" },
  verifying: { verb: "is verified", look: "bg-plum" },
};

/** One part: "waits 2 h 3 min for Proxy quay-p2, slots". */
export function partWords(part: TimePart): string {
  const verb = PARTS[part.kind]?.verb ?? part.kind;
  const time = duration(part.seconds);
  if (!part.label) return `${verb} ${time}`;
  return part.kind === "moving"
    ? `${verb} ${time}, limited by ${part.label}`
    : `${verb} ${time} for ${part.label}`;
}

/** The whole account as a sentence; its parts add up to the time it ends with. */
export function accountSentence(parts: readonly TimePart[]): string {
  if (!parts.length) return "It never reached the queue.";
  const whole = parts.reduce((sum, part) => sum + part.seconds, 0);
  const said = parts.map(partWords).join("; ");
  return `${said.charAt(0).toUpperCase()}${said.slice(1)}: ${duration(whole)} in all.`;
}
