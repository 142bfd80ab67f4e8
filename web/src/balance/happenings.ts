import type { Plan } from "../api/client";
import type { Happening } from "../api/balanceQueries";
import { dateWords } from "../time/time";

/** What may happen, with what a planner has to say about it. */
export interface HappeningKind {
  happens: string;
  label: string;
  /** Choose one of these, under this key. */
  choose?: { key: string; options: (plan: Plan) => readonly string[]; label: string };
  /** A number to give, with the value it begins with. */
  number?: { key: string; label: string; begin: number; factor?: number };
}

const named = (kind: string) => (plan: Plan) =>
  plan.loads
    .filter((load) => load.name.startsWith(`${kind}:`))
    .map((load) => load.name.slice(kind.length + 1));
const proxies = (plan: Plan) =>
  plan.loads
    .filter((load) => load.name.startsWith("slots:proxy:"))
    .map((load) => load.name.slice("slots:proxy:".length));

export const HAPPENINGS: readonly HappeningKind[] = [
  {
    happens: "LoseProxy",
    label: "a proxy is lost",
    choose: { key: "proxy", options: proxies, label: "Proxy" },
  },
  {
    happens: "LoseHost",
    label: "a host is lost",
    choose: { key: "host", options: () => [], label: "Host" },
  },
  {
    happens: "LinkAt",
    label: "a link carries less",
    choose: { key: "link", options: named("link"), label: "Link" },
    number: { key: "part", label: "% of what it does", begin: 50, factor: 0.01 },
  },
  {
    happens: "Grow",
    label: "data grow",
    choose: { key: "folder", options: () => [], label: "Folder" },
    number: { key: "factor", label: "times", begin: 1.2 },
  },
  {
    happens: "AddProxy",
    label: "one more proxy",
    choose: { key: "like", options: proxies, label: "like" },
  },
  {
    happens: "AddSlots",
    label: "more slots at a proxy",
    choose: { key: "proxy", options: proxies, label: "Proxy" },
    number: { key: "slots", label: "slots", begin: 4 },
  },
  { happens: "CloseNight", label: "a night is closed" },
];

/** The happening as the API takes it. */
export function happeningOf(
  kind: HappeningKind,
  chosen: string,
  typed: number,
  night: string,
): Happening {
  const made: Happening = { happens: kind.happens };
  if (kind.choose) made[kind.choose.key] = chosen || null;
  if (kind.number) made[kind.number.key] = typed * (kind.number.factor ?? 1);
  if (kind.happens === "CloseNight") made["night"] = night;
  return made;
}

/** What happens, as the end of a sentence: "proxy quay-p2 is lost". */
export function happeningWords(happening: Happening): string {
  const said = (key: string) => String(happening[key] ?? "");
  const part = Number(happening["part"] ?? 0);
  const factor = Number(happening["factor"] ?? 0);
  switch (happening.happens) {
    case "LoseProxy":
      return `proxy ${said("proxy")} is lost`;
    case "LoseHost":
      return `host ${said("host")} is lost`;
    case "LinkAt":
      return `link ${said("link")} carries ${Math.round(part * 100)} % of what it does`;
    case "Grow":
      return `data ${happening["folder"] ? `in ${said("folder")} ` : ""}grow to ${factor} times`;
    case "AddProxy":
      return `there is one more proxy like ${said("like")}`;
    case "AddSlots":
      return `proxy ${said("proxy")} has ${said("slots")} more slots`;
    case "CloseNight":
      return `the night of ${dateWords(said("night")).long} ${dateWords(said("night")).day} ${dateWords(said("night")).month} is closed`;
    default:
      return HAPPENINGS.find((kind) => kind.happens === happening.happens)?.label ?? "it changes";
  }
}

/** Unusual weeks to begin with: each proxy lost, the slowest link halved, everything grown. */
export function usualScenarios(plan: Plan, night: string): Happening[][] {
  const lost = proxies(plan)
    .slice(0, 3)
    .map((proxy): Happening[] => [{ happens: "LoseProxy", proxy }]);
  const links = named("link")(plan);
  const halved = links
    .slice(-2)
    .map((link): Happening[] => [{ happens: "LinkAt", link, part: 0.5 }]);
  return [
    ...lost,
    ...halved,
    [{ happens: "Grow", factor: 1.2, folder: null }],
    [{ happens: "CloseNight", night }],
  ];
}
