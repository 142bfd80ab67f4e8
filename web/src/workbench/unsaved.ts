import { useEffect, useSyncExternalStore } from "react";
import { useWorkbench } from "./store";

/**
 * What was typed or moved and is not saved yet. It is kept in the browser by plan and draft, so
 * that another view, a reload, a closed tab or a new sign-in loses none of it.
 */
export interface Unsaved {
  /** What it is about, as the planner knows it: "job Office machines". */
  title: string;
  /** When it was changed last, in ms. */
  at: number;
  value: unknown;
  /** Where it is edited: path and query. */
  address: string;
  edits: number;
}

type Entries = Readonly<Record<string, Unsaved>>;

const PREFIX = "gambrel unsaved";
const NOTHING: Entries = {};

/** Where the unsaved work on a plan, or on a draft of it, is kept. */
export const shelfOf = (plan: number, draft: number | null) =>
  `${PREFIX} ${plan} ${draft ?? "adopted"}`;

const listeners = new Set<() => void>();
const open = new Map<string, number>();
/** What is read of the browser's storage, by its text, so that the same is the same object. */
const read = new Map<string, { text: string; entries: Entries }>();

function tell() {
  for (const listener of [...listeners]) listener();
}

function subscribe(listener: () => void) {
  listeners.add(listener);
  window.addEventListener("storage", listener);
  return () => {
    listeners.delete(listener);
    window.removeEventListener("storage", listener);
  };
}

function isUnsaved(entry: unknown): entry is Unsaved {
  const value = entry as Partial<Unsaved> | null;
  return (
    typeof value === "object" &&
    typeof value?.title === "string" &&
    typeof value.at === "number" &&
    typeof value.address === "string" &&
    typeof value.edits === "number" &&
    "value" in value
  );
}

/** What the browser would not keep, for as long as the page is open. */
const unkept = new Map<string, Entries>();

/** All that is kept on a shelf; what cannot be read is left out. */
export function entriesOn(shelf: string): Entries {
  const onPage = unkept.get(shelf);
  if (onPage) return onPage;
  const text = localStorage.getItem(shelf);
  if (!text) return NOTHING;
  const known = read.get(shelf);
  if (known?.text === text) return known.entries;
  let entries: Entries = NOTHING;
  try {
    const found = Object.entries(JSON.parse(text) as object).filter((e) => isUnsaved(e[1]));
    entries = Object.fromEntries(found) as Entries;
  } catch {
    // Something else wrote it, or only half of it was written.
  }
  read.set(shelf, { text, entries });
  return entries;
}

function write(shelf: string, entries: Entries) {
  try {
    if (Object.keys(entries).length) localStorage.setItem(shelf, JSON.stringify(entries));
    else localStorage.removeItem(shelf);
    unkept.delete(shelf);
  } catch {
    // The browser keeps no more; what is typed still stands on the page.
    unkept.set(shelf, entries);
  }
  tell();
}

export function keep(shelf: string, key: string, entry: Unsaved) {
  write(shelf, { ...entriesOn(shelf), [key]: entry });
}

export function forget(shelf: string, key: string) {
  const { [key]: gone, ...rest } = entriesOn(shelf);
  if (gone) write(shelf, rest);
}

export const forgetAll = (shelf: string) => write(shelf, NOTHING);

export const MOVES = "moves";

/** A value that is edited: see `useUnsaved`. */
export interface UnsavedValue<T> {
  value: T;
  set: (next: (now: T) => T) => void;
  clear: () => void;
}

/** Take what is kept for one draft along to another: it was begun, or it was adopted. */
export function carry(from: string, to: string) {
  const moved = entriesOn(from);
  if (from === to || !Object.keys(moved).length) return;
  write(to, { ...entriesOn(to), ...moved });
  write(from, NOTHING);
}

/** Note that something is in hand on the page, so that it need not be offered; ends the note. */
export function inHand(key: string) {
  open.set(key, (open.get(key) ?? 0) + 1);
  tell();
  return () => {
    open.set(key, (open.get(key) ?? 1) - 1);
    tell();
  };
}

/** What is kept for the plan in hand and is not open on the page, the oldest first. */
export function useOffered(): [string, Unsaved][] {
  const { shelf } = useWorkbench();
  const entries = useSyncExternalStore(subscribe, () => entriesOn(shelf));
  // Closing an editor brings its offer: the line is drawn anew when what is open changes.
  useSyncExternalStore(subscribe, () => [...open].map(([k, n]) => `${k} ${n}`).join("\n"));
  return Object.entries(entries)
    .filter(([key]) => !open.get(key))
    .sort((a, b) => a[1].at - b[1].at);
}

/** What is being edited on the page and not saved, in words; "" for nothing. */
export function useEdited(): string {
  const { shelf } = useWorkbench();
  const entries = useSyncExternalStore(subscribe, () => entriesOn(shelf));
  const titles = Object.values(entries).map((entry) => entry.title);
  return titles.join(", ").slice(0, 200);
}

/**
 * A value that is edited and outlives the page until it is saved or given up.
 *
 * `title` says what it is about; `begin` is the value before any edit, the same object each time;
 * `edits` says how many edits a value holds, 0 for one that is as it was; `open` whether it is on
 * the page.
 */
export function useUnsaved<T>(
  key: string,
  title: (value: T) => string,
  begin: T,
  edits: (value: T) => number,
  open = true,
): UnsavedValue<T> {
  const { shelf } = useWorkbench();
  const entry = useSyncExternalStore(subscribe, () => entriesOn(shelf)[key]);
  useEffect(() => (open ? inHand(key) : undefined), [key, open]);
  const set = (next: (now: T) => T) => {
    const made = next((entriesOn(shelf)[key]?.value as T | undefined) ?? begin);
    const count = edits(made);
    const address = window.location.pathname + window.location.search;
    const kept = { title: title(made), at: Date.now(), value: made, address, edits: count };
    if (count) keep(shelf, key, kept);
    else forget(shelf, key);
  };
  return {
    value: (entry?.value as T | undefined) ?? begin,
    set,
    clear: () => forget(shelf, key),
  };
}
