import { afterCurves } from "../api/curvesFirst";
import { useQuery, useQueryClient } from "@tanstack/react-query";
import { type ReactNode, useCallback, useEffect, useMemo, useRef, useState } from "react";
import { useLocation, useNavigate, useParams, useSearchParams } from "react-router";
import {
  ApiProblem,
  type NightSummary,
  type Operation,
  type Plan,
  type Preview,
} from "../api/client";
import * as q from "../api/planQueries";
import { mondayOf } from "../time/time";
import { looksBack, nightAddress, useDraftMade } from "./address";
import type { LED } from "./keys";
import { carry, entriesOn, forget, inHand, keep, MOVES, shelfOf } from "./unsaved";
import { type Clash, type Workbench, WorkbenchStore } from "./store";
import { changedNights } from "./changedNights";
import { type Move, operationsOf, withMove } from "./moves";

interface PreviewState {
  result: Preview | null;
  /** Whether the rest of the week is still to come. */
  partial: boolean;
  running: boolean;
}

type Scope = "night" | "first" | "week";

interface Question {
  moves: readonly Move[];
  scope: Scope;
  /** Ask for the week as soon as the night, which comes quicker, is there. */
  thenWeek: boolean;
}

/** Where a week takes longer, the first night that changes in it is asked for before it. */
export const SLOW_MS = 500;

/**
 * Previews of moves: one request at a time, the newest question next, answers never out of order.
 */
function usePreviews(
  ask: (moves: readonly Move[], scope: Scope, signal: AbortSignal) => Promise<Preview>,
  onProblem: (problem: Error) => void,
  onAnswer: () => void,
) {
  const [state, setState] = useState<PreviewState>({
    result: null,
    partial: false,
    running: false,
  });
  const waiting = useRef<Question | null>(null);
  const flight = useRef<AbortController | null>(null);
  const slow = useRef(false);
  const latest = useRef({ ask, onProblem, onAnswer });
  useEffect(() => {
    latest.current = { ask, onProblem, onAnswer };
  });

  const pump = useCallback(async () => {
    if (flight.current) return;
    while (waiting.current) {
      const control = new AbortController();
      flight.current = control;
      setState((s) => ({ ...s, running: true }));
      await afterCurves();
      if (!waiting.current) break;
      const { moves, scope, thenWeek } = waiting.current;
      waiting.current = null;
      try {
        const began = performance.now();
        const result = await latest.current.ask(moves, scope, control.signal);
        if (scope === "week") slow.current ||= performance.now() - began > SLOW_MS;
        if (!control.signal.aborted) {
          setState((s) => ({ ...s, result, partial: scope === "first" }));
          latest.current.onAnswer();
          if (thenWeek) waiting.current ??= { moves, scope: "week", thenWeek: false };
        }
      } catch (error) {
        if (!control.signal.aborted) {
          // What was shown belongs to another question.
          setState((s) => ({ ...s, result: null, partial: false }));
          latest.current.onProblem(error as Error);
        }
      }
      flight.current = null;
    }
    flight.current = null;
    setState((s) => ({ ...s, running: false }));
  }, []);

  /** Moves in mid-drag ask for their night alone, moves that are kept for the week as well. */
  const request = useCallback(
    (moves: readonly Move[], kept: boolean, whole = false) => {
      // What changes every night is simulated once, for the week; where that takes its time, the
      // first night that changes comes before it.
      const alone = whole ? (slow.current ? "first" : "week") : "night";
      waiting.current = { moves, scope: alone, thenWeek: alone === "first" || (kept && !whole) };
      void pump();
    },
    [pump],
  );
  const clear = useCallback(() => {
    waiting.current = null;
    flight.current?.abort();
    setState((s) => ({ ...s, result: null, partial: false }));
  }, []);
  return { ...state, request, clear };
}

/**
 * The night that the address names; without one the worst of the week, once that is known. The
 * board and Runs show nights that are over; the other views show the nights to come.
 */
function useShownNight(plan: Plan, view: string, named: string | undefined) {
  const first = useQuery(q.weekQuery(plan, null, mondayOf(named ?? plan.first_night)));
  const asked = named ?? mostTroubled(first.data?.nights) ?? plan.first_night;
  const past = asked < plan.first_night;
  const date = past && !looksBack(view) ? plan.first_night : asked;
  return { date, past, decided: Boolean(named ?? first.data) };
}

export function WorkbenchProvider({ plan, children }: { plan: Plan; children: ReactNode }) {
  const client = useQueryClient();
  const navigate = useNavigate();
  const params = useParams();
  const view = useLocation().pathname.split("/")[1] || "board";
  const [search] = useSearchParams();
  const draftMade = useDraftMade();
  const draft = plan.draft;
  const [saving, setSaving] = useState(false);
  const { shelf, begun } = useShelf(plan.id, draft?.id ?? null, saving);
  const { moves, setMoves, kept, resume } = useUnsavedMoves(shelf, plan.jobs);
  const [adopting, setAdopting] = useState(false);
  const [attempting, setAttempting] = useState<Move | null>(null);
  const [problem, say] = useState<string | null>(null);
  const [loads, setLoads] = useState<string[] | null>(null);
  const [considered, setConsidered] = useState<readonly Operation[]>([]);
  const [refused, setRefused] = useState<ApiProblem | null>(null);
  const jobs = useMemo(() => new Map(plan.jobs.map((job) => [job.id, job])), [plan.jobs]);

  const { date, past, decided } = useShownNight(plan, view, params["date"]);
  const saved = useQuery(q.weekQuery(plan, draft, mondayOf(date)));
  const adopted = useQuery(q.weekQuery(plan, null, mondayOf(date)));
  const night = useQuery({
    ...q.nightQuery(plan, draft, date, loads),
    enabled: decided && !past,
    placeholderData: (before) => before,
  });

  const previews = usePreviews(
    (of, scope, signal) => {
      const body = {
        draft: draft?.id ?? null,
        operations: [...operationsOf(of, jobs), ...considered],
        night: date,
        load: loads,
        scope,
      };
      return q.preview(plan.id, body, signal);
    },
    (error) => {
      if (considered.length && error instanceof ApiProblem && error.status === 422)
        setRefused(error);
      else say(error.message);
    },
    () => setRefused(null),
  );
  const { request, clear, result, partial, running } = previews;

  const goTo = useCallback(
    (to: string, state?: typeof LED) =>
      navigate(nightAddress(view, search, to, to < plan.first_night), { state }),
    [navigate, plan.first_night, search, view],
  );

  // Moves, the night and the chosen loads decide what has to be previewed.
  // While they are being saved, what they start from changes under them: nothing is asked.
  useEffect(() => {
    if (saving) return;
    if (moves.length || considered.length) request(moves, true, considered.length > 0);
    else clear();
  }, [moves, considered, date, loads, saving, request, clear]);
  const consider = useCallback((operations: Operation[]) => {
    setRefused(null);
    setConsidered((before) => (before.length || operations.length ? operations : before));
  }, []);

  const attempt = useCallback(
    (move: Move | null) => {
      setAttempting(move);
      // A full on another night is a matter of two nights at least.
      if (move) request(withMove(moves, move), false, move.type === "full");
      else if (moves.length) request(moves, true);
      else clear();
    },
    [moves, request, clear],
  );
  const move = useCallback(
    (next: Move) => {
      say(null);
      setAttempting(null);
      setMoves((before) => withMove(before.length ? before : kept(), next));
    },
    [kept, setMoves],
  );

  const [clash, setClash] = useState<Clash | null>(null);
  const settling = useRef(false);
  const settle = useCallback(
    async (work: () => Promise<unknown>, yours: Operation[] = []): Promise<boolean> => {
      // A second key press may come before the first is drawn: it would save into another draft.
      if (settling.current) return false;
      settling.current = true;
      setSaving(true);
      say(null);
      try {
        await work();
        await q.refreshPlan(client, plan.id);
        if (moves.length) {
          setMoves([]);
          forget(shelf, MOVES);
        }
        return true;
      } catch (error) {
        const stale = error instanceof ApiProblem && error.status === 412;
        const met = stale ? (error.problem as unknown as Clash) : null;
        if (met?.theirs?.length && yours.length) setClash({ ...met, yours });
        else say((error as Error).message);
        // Whoever answers at once must not find this one still under way.
        if (stale) void client.invalidateQueries({ queryKey: ["plan", plan.id] });
        return false;
      } finally {
        settling.current = false;
        setSaving(false);
      }
    },
    [client, moves.length, plan.id, setMoves, shelf],
  );

  /** The draft in hand, or a new one, which the address then names. */
  const draftToEdit = useCallback(async () => {
    if (draft) return draft;
    const made = await q.startDraft(plan.id, `${plan.name}, changed`);
    begun(made.id);
    draftMade(String(made.id));
    return made;
  }, [begun, draft, draftMade, plan.id, plan.name]);

  const save = useCallback(() => {
    if (!moves.length) return;
    const yours = operationsOf(moves, jobs);
    void settle(async () => {
      // Each move is an act of its own: one undo takes one of them back.
      const acts = yours.map(() => 1);
      const made = await q.saveOperations(await draftToEdit(), yours, acts);
      client.setQueryData(q.planQuery(plan.id, made.id).queryKey, { ...plan, draft: made });
      if (result?.night && result.nights.length === 7 && !running) {
        // What was previewed is what is saved: it need not be simulated again.
        client.setQueryData(q.nightQuery(plan, made, date, loads).queryKey, result.night);
        client.setQueryData(q.weekQuery(plan, made, mondayOf(date)).queryKey, {
          monday: mondayOf(date),
          nights: result.nights,
        });
      }
    }, yours);
  }, [client, date, draftToEdit, jobs, loads, moves, plan, result, running, settle]);

  const put = useCallback(
    async (operations: Operation[]) => {
      const moved = operationsOf(moves, jobs);
      const yours = [...moved, ...operations];
      return settle(async () => {
        const acts = [...moved.map(() => 1), operations.length];
        const made = await q.saveOperations(await draftToEdit(), yours, acts);
        client.setQueryData(q.planQuery(plan.id, made.id).queryKey, { ...plan, draft: made });
        setConsidered([]);
      }, yours);
    },
    [client, draftToEdit, jobs, moves, plan, settle],
  );
  const settleClash = useCallback(
    (operations: Operation[]) => {
      const now = clash?.now;
      if (!now || !operations.length) {
        setClash(null);
        setConsidered([]);
        setMoves([]);
        return;
      }
      // What is one's own is there until it is saved: where that fails, the question stays.
      void settle(async () => {
        await q.saveOperations(now, operations);
        setConsidered([]);
      }, operations).then((done) => done && setClash(null));
    },
    [clash, setMoves, settle],
  );

  const [tried, setTried] = useState<{ key: string; lines: string[] } | null>(null);
  const tryOut = useCallback(
    (key: string, operations: Operation[]) => {
      say(null);
      const control = new AbortController();
      const body = {
        draft: draft?.id ?? null,
        operations,
        night: date,
        load: null,
        scope: "week" as const,
      };
      q.preview(plan.id, body, control.signal)
        .then((found) =>
          setTried({
            key,
            lines: changedNights(saved.data?.nights ?? [], found.nights, plan.time_zone),
          }),
        )
        .catch((error: unknown) => say((error as Error).message));
    },
    [date, draft, plan.id, plan.time_zone, saved.data],
  );

  const undo = useCallback(() => {
    say(null);
    if (moves.length) setMoves(moves.slice(0, -1));
    else if (draft?.changes.length) void settle(() => q.stepBack(draft, "undo"));
  }, [draft, moves, setMoves, settle]);

  const redo = useCallback(() => {
    if (draft?.can_redo && !moves.length) void settle(() => q.stepBack(draft, "redo"));
  }, [draft, moves.length, settle]);

  const adopt = useCallback(
    async (note: string, despite: boolean) =>
      draft && !moves.length
        ? settle(async () => {
            await q.adoptDraft(draft, note, despite);
            // What is still being edited goes on, on the plan that is adopted now.
            carry(shelf, shelfOf(plan.id, null));
          })
        : false,
    [draft, moves.length, plan.id, settle, shelf],
  );

  const savedWeek = saved.data?.nights ?? NO_NIGHTS;
  const shownNight =
    moves.length || considered.length || result ? (result?.night ?? night.data) : night.data;
  const previewed = new Map(result?.nights.map((n) => [n.date, n]));
  const value: Workbench = {
    plan,
    draft,
    shelf,
    jobs,
    date,
    goTo,
    loads,
    setLoads,
    night:
      shownNight?.date === date ? shownNight : night.data?.date === date ? night.data : undefined,
    week: savedWeek.map((n) => previewed.get(n.date) ?? n),
    awaited: partial ? savedWeek.map((n) => n.date).filter((d) => !previewed.has(d)) : NO_DATES,
    adoptedWeek: adopted.data?.nights ?? [],
    savedWeek,
    nightError: night.error,
    moves,
    attempting,
    attempt,
    adopting,
    setAdopting,
    move,
    undo,
    discard: useCallback(() => setMoves([]), [setMoves]),
    resume,
    save,
    put,
    tryOut,
    tried,
    consider,
    considered,
    refused,
    redo,
    adopt,
    clash,
    settleClash,
    busy: saving ? "saving" : running ? "previewing" : null,
    problem,
    say,
    words: moves.length || considered.length || attempting ? (result?.words ?? []) : [],
  };
  return <WorkbenchStore value={value}>{children}</WorkbenchStore>;
}

/**
 * Where unsaved work is kept: the shelf of the draft in hand. While something is saved it stays
 * where it was, so that what is being saved does not vanish half-way; where that began a draft,
 * what else is unsaved goes along.
 */
function useShelf(plan: number, draft: number | null, saving: boolean) {
  const wanted = shelfOf(plan, draft);
  const [shelf, setShelf] = useState(wanted);
  const [own, begun] = useState<number | null>(null);
  const goesAlong = own !== null && own === draft;
  if (shelf !== wanted && !saving && !goesAlong) setShelf(wanted);
  useEffect(() => {
    if (shelf === wanted || saving || !goesAlong) return undefined;
    // Whoever saved clears what was saved first.
    const timer = setTimeout(() => {
      carry(shelf, wanted);
      setShelf(wanted);
      begun(null);
    });
    return () => clearTimeout(timer);
  }, [shelf, wanted, saving, goesAlong]);
  return { shelf, begun };
}

/**
 * Moves that are not saved, and what the browser keeps of them. Those of a draft that is left stay
 * on its shelf; what was kept before the page was opened is offered, and joins the next move.
 */
function useUnsavedMoves(shelf: string, jobs: Plan["jobs"]) {
  const [state, setState] = useState<{ shelf: string; moves: readonly Move[]; touched: boolean }>({
    shelf,
    moves: [],
    touched: false,
  });
  if (state.shelf !== shelf) setState({ shelf, moves: [], touched: false });
  const { moves, touched } = state.shelf === shelf ? state : NO_MOVES;
  const setMoves = useCallback(
    (next: readonly Move[] | ((before: readonly Move[]) => readonly Move[])) =>
      setState((before) => ({
        shelf: before.shelf,
        moves: typeof next === "function" ? next(before.moves) : next,
        touched: true,
      })),
    [],
  );
  const kept = useCallback(() => {
    const found = entriesOn(shelf)[MOVES]?.value as readonly Move[] | undefined;
    return (found ?? []).filter((move) => jobs.some((job) => job.id === move.job));
  }, [shelf, jobs]);
  useEffect(() => {
    if (moves.length) {
      const address = window.location.pathname + window.location.search;
      const title =
        moves.length === 1 ? "a move on the board" : `${moves.length} moves on the board`;
      keep(shelf, MOVES, { title, at: Date.now(), value: moves, address, edits: moves.length });
      return inHand(MOVES);
    }
    if (touched) forget(shelf, MOVES);
    return undefined;
  }, [shelf, moves, touched]);
  return { moves, setMoves, kept, resume: useCallback(() => setMoves(kept()), [setMoves, kept]) };
}

const NO_DATES: string[] = [];
const NO_NIGHTS: NightSummary[] = [];

const NO_MOVES = { moves: [], touched: false };

/** The night that a planner should see first: the worst of the week. */
function mostTroubled(nights: NightSummary[] | undefined): string | null {
  if (!nights) return null;
  const rank = (n: NightSummary) => (n.verdict === "over" ? 0 : n.verdict === "tight" ? 1 : 2);
  const known = nights.filter((n) => n.forecast);
  return known.sort((a, b) => rank(a) - rank(b) || b.over_s - a.over_s)[0]?.date ?? null;
}
