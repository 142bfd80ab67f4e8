import { useQuery, useQueryClient } from "@tanstack/react-query";
import { createContext, type ReactNode, use, useCallback, useEffect, useMemo, useRef, useState } from "react";
import { useLocation, useNavigate, useParams, useSearchParams } from "react-router";
import {
  ApiProblem,
  type Draft,
  type Job,
  type Night,
  type NightSummary,
  type Operation,
  type Plan,
  type Preview,
} from "../api/client";
import * as q from "../api/queries";
import { mondayOf } from "../time/time";
import { changedNights } from "./changedNights";
import { type Move, operationsOf, withMove } from "../board/moves";

/** What the planner has in hand: a plan, a night of it, and moves that are not saved yet. */
export interface Workbench {
  plan: Plan;
  draft: Draft | null;
  jobs: ReadonlyMap<string, Job>;
  date: string;
  goTo: (date: string) => void;
  loads: readonly string[] | null;
  setLoads: (loads: string[]) => void;
  /** The night as adopted, saved in the draft, or previewed: whatever is newest. */
  night: Night | undefined;
  week: NightSummary[];
  adoptedWeek: NightSummary[];
  nightError: Error | null;
  moves: readonly Move[];
  /** Whether a move is in mid-drag: previewed but not kept. */
  attempting: boolean;
  attempt: (move: Move | null) => void;
  move: (move: Move) => void;
  undo: () => void;
  discard: () => void;
  save: () => void;
  /** Save operations that were not made by hand, such as what helps against a finding. */
  put: (operations: Operation[]) => void;
  /** What operations would do to the week, tried without saving them. */
  tryOut: (key: string, operations: Operation[]) => void;
  tried: { key: string; lines: string[] } | null;
  adopt: () => void;
  busy: "previewing" | "saving" | null;
  problem: string | null;
  say: (problem: string | null) => void;
  words: readonly string[];
}

const Context = createContext<Workbench | null>(null);

export function useWorkbench(): Workbench {
  const found = use(Context);
  if (!found) throw new Error("used outside of a workbench");
  return found;
}

interface PreviewState {
  result: Preview | null;
  running: boolean;
}

interface Question {
  moves: readonly Move[];
  scope: "night" | "week";
  /** Ask for the week as soon as the night, which comes quicker, is there. */
  thenWeek: boolean;
}

/** Previews of moves: one request at a time, the newest question next, answers never out of order. */
function usePreviews(
  ask: (moves: readonly Move[], scope: "night" | "week", signal: AbortSignal) => Promise<Preview>,
  onProblem: (problem: string) => void,
) {
  const [state, setState] = useState<PreviewState>({ result: null, running: false });
  const waiting = useRef<Question | null>(null);
  const flight = useRef<AbortController | null>(null);
  const latest = useRef({ ask, onProblem });
  useEffect(() => {
    latest.current = { ask, onProblem };
  });

  const pump = useCallback(async () => {
    if (flight.current) return;
    while (waiting.current) {
      const { moves, scope, thenWeek } = waiting.current;
      waiting.current = null;
      const control = new AbortController();
      flight.current = control;
      setState((s) => ({ ...s, running: true }));
      try {
        const result = await latest.current.ask(moves, scope, control.signal);
        if (!control.signal.aborted) {
          setState((s) => ({ ...s, result }));
          if (thenWeek) waiting.current ??= { moves, scope: "week", thenWeek: false };
        }
      } catch (error) {
        if (!control.signal.aborted) latest.current.onProblem((error as Error).message);
      }
      flight.current = null;
    }
    setState((s) => ({ ...s, running: false }));
  }, []);

  /** Moves in mid-drag ask for their night alone, moves that are kept for the week as well. */
  const request = useCallback(
    (moves: readonly Move[], kept: boolean) => {
      waiting.current = { moves, scope: "night", thenWeek: kept };
      void pump();
    },
    [pump],
  );
  const clear = useCallback(() => {
    waiting.current = null;
    flight.current?.abort();
    setState((s) => ({ ...s, result: null }));
  }, []);
  return { ...state, request, clear };
}

export function WorkbenchProvider({ plan, children }: { plan: Plan; children: ReactNode }) {
  const client = useQueryClient();
  const navigate = useNavigate();
  const params = useParams();
  const view = useLocation().pathname.split("/")[1] || "board";
  const [search] = useSearchParams();
  const draft = plan.draft;
  const [moves, setMoves] = useState<readonly Move[]>([]);
  const [attempting, setAttempting] = useState(false);
  const [saving, setSaving] = useState(false);
  const [problem, say] = useState<string | null>(null);
  const [loads, setLoads] = useState<string[] | null>(null);
  const jobs = useMemo(() => new Map(plan.jobs.map((job) => [job.id, job])), [plan.jobs]);

  const adoptedFirst = useQuery(q.weekQuery(plan.id, null, mondayOf(params["date"] ?? plan.first_night)));
  const date = params["date"] ?? mostTroubled(adoptedFirst.data?.nights) ?? plan.first_night;
  // Without a date in the address the worst night of the week is chosen, once the week is known.
  const decided = Boolean(params["date"] ?? adoptedFirst.data);
  const saved = useQuery(q.weekQuery(plan.id, draft, mondayOf(date)));
  const adopted = useQuery(q.weekQuery(plan.id, null, mondayOf(date)));
  const night = useQuery({
    ...q.nightQuery(plan.id, draft, date, loads),
    enabled: decided,
    placeholderData: (before) => before,
  });

  const previews = usePreviews((asked, scope, signal) => {
    const body = {
      draft: draft?.id ?? null,
      operations: operationsOf(asked, jobs),
      night: date,
      load: loads,
      scope,
    };
    return q.preview(plan.id, body, signal);
  }, say);
  const { request, clear, result, running } = previews;

  const goTo = useCallback(
    (to: string) => navigate({ pathname: `/${view}/${to}`, search: search.toString() }),
    [navigate, search, view],
  );

  // Moves, the night and the chosen loads decide what has to be previewed.
  useEffect(() => {
    if (moves.length) request(moves, true);
    else clear();
  }, [moves, date, loads, request, clear]);

  const attempt = useCallback(
    (move: Move | null) => {
      setAttempting(move !== null);
      if (move) request(withMove(moves, move), false);
      else if (moves.length) request(moves, true);
      else clear();
    },
    [moves, request, clear],
  );
  const move = useCallback((next: Move) => {
    say(null);
    setAttempting(false);
    setMoves((before) => withMove(before, next));
  }, []);

  const settle = useCallback(
    async (work: () => Promise<unknown>) => {
      setSaving(true);
      say(null);
      try {
        await work();
        await client.invalidateQueries({ queryKey: ["plan", plan.id], refetchType: "active" });
        setMoves([]);
      } catch (error) {
        const stale = error instanceof ApiProblem && error.status === 412;
        say((error as Error).message);
        if (stale) await client.invalidateQueries({ queryKey: ["plan", plan.id] });
      } finally {
        setSaving(false);
      }
    },
    [client, plan.id],
  );

  const save = useCallback(() => {
    if (!moves.length || saving) return;
    void settle(async () => {
      const target = draft ?? (await q.startDraft(plan.id, `${plan.name}, changed`));
      const made = await q.saveOperations(target, operationsOf(moves, jobs));
      client.setQueryData(q.planQuery(plan.id, made.id).queryKey, { ...plan, draft: made });
      if (result?.nights.length === 7 && !running) {
        // What was previewed is what is saved: it need not be simulated again.
        client.setQueryData(q.nightQuery(plan.id, made, date, loads).queryKey, result.night);
        client.setQueryData(q.weekQuery(plan.id, made, mondayOf(date)).queryKey, {
          monday: mondayOf(date),
          nights: result.nights,
        });
      }
    });
  }, [client, date, draft, jobs, loads, moves, plan, result, running, saving, settle]);

  const put = useCallback(
    (operations: Operation[]) => {
      if (saving) return;
      void settle(async () => {
        const target = draft ?? (await q.startDraft(plan.id, `${plan.name}, changed`));
        const made = await q.saveOperations(target, operations);
        client.setQueryData(q.planQuery(plan.id, made.id).queryKey, { ...plan, draft: made });
      });
    },
    [client, draft, plan, saving, settle],
  );

  const [tried, setTried] = useState<{ key: string; lines: string[] } | null>(null);
  const tryOut = useCallback(
    (key: string, operations: Operation[]) => {
      say(null);
      const control = new AbortController();
      const body = { draft: draft?.id ?? null, operations, night: date, load: null, scope: "week" as const };
      q.preview(plan.id, body, control.signal)
        .then((found) => setTried({ key, lines: changedNights(saved.data?.nights ?? [], found.nights, plan.time_zone) }))
        .catch((error: unknown) => say((error as Error).message));
    },
    [date, draft, plan.id, plan.time_zone, saved.data],
  );

  const undo = useCallback(() => {
    say(null);
    if (moves.length) setMoves(moves.slice(0, -1));
    else if (draft?.changes.length) void settle(() => q.stepBack(draft, "undo"));
  }, [draft, moves, settle]);

  const adopt = useCallback(() => {
    if (draft && !moves.length) void settle(() => q.adoptDraft(draft, ""));
  }, [draft, moves.length, settle]);

  const savedWeek = saved.data?.nights ?? [];
  const shownNight = moves.length || result ? (result?.night ?? night.data) : night.data;
  const previewed = new Map(result?.nights.map((n) => [n.date, n]));
  const value: Workbench = {
    plan,
    draft,
    jobs,
    date,
    goTo,
    loads,
    setLoads,
    night: shownNight?.date === date ? shownNight : night.data?.date === date ? night.data : undefined,
    week: savedWeek.map((n) => previewed.get(n.date) ?? n),
    adoptedWeek: adopted.data?.nights ?? [],
    nightError: night.error,
    moves,
    attempting,
    attempt,
    move,
    undo,
    discard: useCallback(() => setMoves([]), []),
    save,
    put,
    tryOut,
    tried,
    adopt,
    busy: saving ? "saving" : running ? "previewing" : null,
    problem,
    say,
    words: moves.length || attempting ? (result?.words ?? []) : [],
  };
  return <Context value={value}>{children}</Context>;
}

/** The night that a planner should see first: the worst of the week. */
function mostTroubled(nights: NightSummary[] | undefined): string | null {
  if (!nights) return null;
  const rank = (n: NightSummary) => (n.verdict === "over" ? 0 : n.verdict === "tight" ? 1 : 2);
  const known = nights.filter((n) => n.forecast);
  return known.sort((a, b) => rank(a) - rank(b) || b.over_s - a.over_s)[0]?.date ?? null;
}
