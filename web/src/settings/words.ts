import { dateClock } from "../time/time";

/** The zone of this browser: what people do is told in their own time. */
export const HERE = Intl.DateTimeFormat().resolvedOptions().timeZone;

/** When something happened, in this browser's zone, or that it never did. */
export const whenWords = (at: string | null, never = "never") => (at ? dateClock(at, HERE) : never);

const BROWSERS = ["Firefox", "Edg", "Chrome", "Safari"];
const SYSTEMS: [string, string][] = [
  ["Windows", "Windows"],
  ["Mac OS", "macOS"],
  ["Android", "Android"],
  ["iPhone", "iOS"],
  ["Linux", "Linux"],
];

/** "Firefox on Linux" of what a browser says of itself. */
export function browserWords(agent: string): string {
  const browser = BROWSERS.find((each) => agent.includes(each));
  const system = SYSTEMS.find(([part]) => agent.includes(part))?.[1];
  if (!browser) return agent.slice(0, 40) || "unknown";
  return `${browser === "Edg" ? "Edge" : browser}${system ? ` on ${system}` : ""}`;
}

/** What an entry of the audit trail says besides who, what and when: what was, and what is now. */
export function detailWords(detail: Record<string, unknown>): string {
  const { was, now, ...rest } = detail as {
    was?: Record<string, unknown>;
    now?: Record<string, unknown>;
  };
  const told = Object.entries(rest)
    .filter(([, value]) => value !== null && value !== "")
    .map(([key, value]) => `${key.replaceAll("_", " ")}: ${valueWords(value)}`);
  if (now && typeof now === "object") {
    for (const [key, value] of Object.entries(now)) {
      const before = was?.[key];
      if (JSON.stringify(before) === JSON.stringify(value)) continue;
      told.push(
        `${key.replaceAll("_", " ")}: ${valueWords(value)} (was ${valueWords(before ?? "nothing")})`,
      );
    }
  } else if (was !== undefined) told.push(`was: ${valueWords(was)}`);
  return told.join("; ");
}

function valueWords(value: unknown): string {
  if (typeof value === "boolean") return value ? "yes" : "no";
  if (typeof value === "string" || typeof value === "number") return String(value);
  if (Array.isArray(value) && value.every((each) => typeof each === "string"))
    return value.join(", ") || "none";
  return JSON.stringify(value);
}
