import {
  createContext,
  type ReactNode,
  use,
  useLayoutEffect,
  useState,
  useSyncExternalStore,
} from "react";
import type { ApiProblem, Draft, Job, Night, NightSummary, Operation, Plan } from "../api/client";
import type { LED } from "./keys";
import type { Move } from "./moves";

/** What the planner has in hand: a plan, a night of it, and moves that are not saved yet. */
export interface Workbench {
  plan: Plan;
  draft: Draft | null;
  /** Where what is not saved is kept in the browser. */
  shelf: string;
  jobs: ReadonlyMap<string, Job>;
  date: string;
  goTo: (date: string, state?: typeof LED) => void;
  loads: readonly string[] | null;
  setLoads: (loads: string[]) => void;
  /** The night as adopted, saved in the draft, or previewed: whatever is newest. */
  night: Night | undefined;
  week: NightSummary[];
  /** Nights of the week, by date, of which what is being changed is not simulated yet. */
  awaited: readonly string[];
  adoptedWeek: NightSummary[];
  /** The week of the draft as it is saved, or of the adopted plan: what an edit sets out from. */
  savedWeek: NightSummary[];
  nightError: Error | null;
  moves: readonly Move[];
  /** The move that is in mid-drag: previewed but not kept. */
  attempting: Move | null;
  attempt: (move: Move | null) => void;
  /** Whether the dialog that adopts the draft is open. */
  adopting: boolean;
  setAdopting: (open: boolean) => void;
  move: (move: Move) => void;
  undo: () => void;
  discard: () => void;
  /** Go on with the moves that the browser keeps from before. */
  resume: () => void;
  save: () => void;
  /** Save operations that were not made by hand, such as what helps against a finding. */
  put: (operations: Operation[]) => Promise<boolean>;
  /** What operations would do to the week, tried without saving them. */
  tryOut: (key: string, operations: Operation[]) => void;
  tried: { key: string; lines: string[] } | null;
  /** Operations that are being thought about: previewed everywhere, saved by `put`. */
  consider: (operations: Operation[]) => void;
  considered: readonly Operation[];
  /** What is wrong with what is being thought about. */
  refused: ApiProblem | null;
  redo: () => void;
  /** Adopt the draft, with a note; `despite` what can never work in it. */
  adopt: (note: string, despite: boolean) => Promise<boolean>;
  /** What others have saved meanwhile where this person edited too. */
  clash: Clash | null;
  settleClash: (operations: Operation[]) => void;
  busy: "previewing" | "saving" | null;
  problem: string | null;
  say: (problem: string | null) => void;
  words: readonly string[];
}

/** Edits of two people that met: what the others did, and what of one's own it touches. */
export interface Clash {
  now: Draft;
  yours: Operation[];
  theirs: { words: string; actor: string; undone: boolean }[];
  conflicts: {
    index: number;
    key: string | null;
    list: string;
    id: string;
    field: string;
    theirs: string[];
  }[];
}

/** Holds what the planner has in hand, and tells whoever uses a part of it when that changes. */
class Store {
  private readonly listeners = new Set<() => void>();

  constructor(public value: Workbench) {}

  readonly subscribe = (listener: () => void) => {
    this.listeners.add(listener);
    return () => this.listeners.delete(listener);
  };

  publish(value: Workbench) {
    if (value === this.value) return;
    this.value = value;
    for (const listener of [...this.listeners]) listener();
  }
}

/** What one component has read of a store: it is drawn anew only when that changes. */
class Reader {
  readonly workbench: Workbench;
  private readonly used = new Set<keyof Workbench>();
  private seen: Workbench;
  private version = 0;

  constructor(private readonly store: Store) {
    this.seen = store.value;
    this.workbench = new Proxy({} as Workbench, {
      get: (_, key) => {
        this.used.add(key as keyof Workbench);
        return this.store.value[key as keyof Workbench];
      },
    });
  }

  readonly snapshot = () => {
    const now = this.store.value;
    if (now !== this.seen) {
      for (const key of this.used)
        if (!Object.is(now[key], this.seen[key])) {
          this.version += 1;
          break;
        }
      this.seen = now;
    }
    return this.version;
  };
}

const StoreContext = createContext<Store | null>(null);

export function WorkbenchStore({ value, children }: { value: Workbench; children: ReactNode }) {
  const [store] = useState(() => new Store(value));
  useLayoutEffect(() => store.publish(value), [store, value]);
  return <StoreContext value={store}>{children}</StoreContext>;
}

/**
 * What the planner has in hand. A component is drawn anew when something changes that it has read
 * while it was drawn, and not otherwise: a drag step leaves alone what does not show it.
 */
export function useWorkbench(): Workbench {
  const store = use(StoreContext);
  if (!store) throw new Error("used outside of a workbench");
  const [reader] = useState(() => new Reader(store));
  useSyncExternalStore(store.subscribe, reader.snapshot);
  return reader.workbench;
}
