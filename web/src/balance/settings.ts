import type { BalanceRequest, Happening, Score } from "../api/balanceQueries";
import { keep, kept } from "../ui/kept";

/** What a planner chose for the next search. */
export interface Settings {
  weeks: number;
  jobs: string[] | null;
  kinds: MoveKind[];
  mostMoves: number;
  seconds: number;
  comfort: number;
  stands: Stand[];
  /** Rules of the house; null: those of the last search. */
  rules: HouseRule[] | null;
}

/** What no proposal may do where the plan does not: see the request of a balance. */
export type HouseRule =
  | { rule: "not before"; time: string; jobs: string[]; tag: string }
  | { rule: "apart"; jobs: string[] }
  | { rule: "last"; job: string };

export type Stand = NonNullable<BalanceRequest["stands"]>[number];

/** What a plan shall stand beside the week as planned, each by itself. */
export const STANDS: readonly { value: Stand; label: string }[] = [
  { value: "proxies", label: "any one proxy lost" },
  { value: "hosts", label: "any one host lost" },
  { value: "links", label: "the slowest link at half" },
  { value: "weeks", label: "weeks that vary" },
];

export type MoveKind = NonNullable<BalanceRequest["kinds"]>[number];

const PROTECTION = "costs protection";

/** The kinds of move, in the words of the screen; those tried only if asked come last. */
export const MOVE_KINDS: readonly { value: MoveKind; label: string; costs?: string }[] = [
  { value: "night", label: "fulls to other nights or weeks" },
  { value: "start", label: "other starts" },
  { value: "spread", label: "fulls spread by machine" },
  { value: "order", label: "the order of machines" },
  { value: "proxies", label: "other proxies" },
  { value: "streams", label: "limits on streams" },
  { value: "repository", label: "another repository of the site", costs: PROTECTION },
  { value: "synthetic", label: "fulls made in the repository", costs: PROTECTION },
  { value: "window_end", label: "what happens at the end of a window", costs: PROTECTION },
  { value: "copies", label: "copies later", costs: PROTECTION },
  { value: "chain", label: "fewer fulls, by another kind of chain", costs: PROTECTION },
  { value: "verify", label: "verifying less", costs: PROTECTION },
  { value: "split", label: "a job split in two, fulls on two nights", costs: "makes one more job" },
];

export const USUAL: Settings = {
  weeks: 1,
  jobs: null,
  kinds: MOVE_KINDS.filter((kind) => !kind.costs).map((kind) => kind.value),
  mostMoves: 15,
  seconds: 20,
  comfort: 0.85,
  stands: [],
  rules: null,
};

const keyOf = (plan: number) => `gambrel search of plan ${plan}`;

/** What was chosen last for a plan, in this browser; it outlives a reload and other views. */
export const keptSettings = (plan: number): Settings => ({
  ...USUAL,
  ...kept<Settings>(keyOf(plan)),
});

export const keepSettings = (plan: number, settings: Settings) => keep(keyOf(plan), settings);

export function requestOf(
  settings: Settings,
  draft: number | null,
  day: string,
  happens: Happening[],
): BalanceRequest {
  return {
    draft,
    day,
    happens,
    weeks: settings.weeks,
    jobs: settings.jobs,
    kinds: settings.kinds,
    most_moves: settings.mostMoves,
    most_evaluations: 20_000,
    seconds: settings.seconds,
    comfort: settings.comfort,
    stands: settings.stands,
    rules: settings.rules ?? [],
    // Weeks vary as the ledger shows it.
    change: null,
    rate: null,
    stream: null,
    seed: 1,
  };
}

const DURATION = 1;

/** What is wrong with a plan, part by part, in words; only what there is. */
export function scoreWords(score: Score, duration: (seconds: number) => string): string[] {
  const said = [];
  if (score.lost > 0) said.push("machines not backed up");
  if (score.rpo_missed > 0) said.push("RPOs missed");
  if (score.over_s >= DURATION) said.push("runs past their windows");
  if (score.skipped > 0) said.push("runs skipped");
  if (score.margin_s >= DURATION) said.push("runs close to the end of their windows");
  if (score.strain_s >= 60)
    said.push(`${duration(score.strain_s)} of load above what is comfortable`);
  return said;
}

/** The curve of a search as one falling line: 1 where it began, 0 where nothing is wrong. */
export function fallen(
  curve: readonly { seconds: number; grades: readonly number[] }[],
): { seconds: number; value: number }[] {
  const first = curve[0]?.grades ?? [];
  const parts = first.length || 1;
  return curve.map(({ seconds, grades }) => {
    // The first part that is still wrong decides, as it does when plans are compared.
    const at = grades.findIndex((grade) => grade > 0);
    if (at < 0) return { seconds, value: 0 };
    const of = Math.max(first[at] ?? 0, grades[at] ?? 0) || 1;
    return { seconds, value: (parts - at - 1 + (grades[at] ?? 0) / of) / parts };
  });
}
