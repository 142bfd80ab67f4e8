import { useCallback, useEffect, useRef } from "react";
import { useLocation, useNavigate, useSearchParams } from "react-router";

/** The views, as the address and the top line name them. */
export const VIEWS = [
  { path: "board", title: "Board" },
  { path: "estate", title: "Estate" },
  { path: "paths", title: "Paths" },
  { path: "jobs", title: "Jobs" },
  { path: "balance", title: "Balance" },
  { path: "runs", title: "Runs" },
  { path: "recovery", title: "Recovery" },
  { path: "runway", title: "Runway" },
];

/** What of the address goes along to another view: plan and draft, not the filters of a table. */
export function planOf(search: URLSearchParams): string {
  const kept = new URLSearchParams();
  for (const key of ["plan", "draft"]) {
    const value = search.get(key);
    if (value) kept.set(key, value);
  }
  return kept.toString();
}

/** Whether a view can show a night that is over. */
export const looksBack = (view: string) => view === "board" || view === "runs";

/** Where a night is shown: in the view that is open; on the board where that only looks ahead. */
export function nightAddress(view: string, search: URLSearchParams, night: string, over: boolean) {
  if (over && !looksBack(view)) return { pathname: `/board/${night}`, search: planOf(search) };
  const kept = new URLSearchParams(search);
  kept.delete("run");
  if (over && view === "runs") {
    kept.set("part", "nights");
    kept.set("night", night);
  }
  return { pathname: `/${view}/${night}`, search: kept.toString() };
}

export type AddressChanges = Record<string, string | readonly string[] | null>;

const viewOf = (path: string) => path.split("/")[1] ?? "";

/** What of the address is no matter of one view. */
const OF_ALL_VIEWS = new Set(["plan", "draft"]);

/** What a view keeps in the address, and how it changes some of it; `null` takes a key away. */
export function useAddress() {
  const [search] = useSearchParams();
  const navigate = useNavigate();
  const view = viewOf(useLocation().pathname);
  const set = useCallback(
    (changes: AddressChanges) => {
      // What finishes late in a view that was left does not bring it back. The view may also be
      // about to be drawn: the address is ahead of the page then. Which draft is in hand is told
      // either way, or what was saved into it would seem lost.
      const left = viewOf(window.location.pathname) !== view;
      const told = Object.entries(changes).filter(([key]) => !left || OF_ALL_VIEWS.has(key));
      if (!told.length) return;
      // The address as it is now: what finishes late must not bring back what was there when it
      // began.
      const now = new URLSearchParams(window.location.search);
      for (const [key, value] of told) {
        now.delete(key);
        for (const each of value === null ? [] : typeof value === "string" ? [value] : value)
          now.append(key, each);
      }
      void navigate(
        { pathname: window.location.pathname, search: now.toString() },
        { replace: true },
      );
    },
    [navigate, view],
  );
  return { search, set };
}

/**
 * Names a draft that was just made in the address, and holds it there: a link that was drawn, or a
 * jump that was begun, before the address was known to the page would lead on without the draft,
 * and what was saved into it would seem lost.
 */
export function useDraftMade() {
  const { search, set } = useAddress();
  const { key } = useLocation();
  const made = useRef<{ id: string; before: string | null } | null>(null);
  useEffect(() => {
    if (!made.current) return;
    const named = search.get("draft");
    if (named === made.current.before) set({ draft: made.current.id });
    // Every link now names the draft: whoever leaves it does so on purpose.
    else made.current = null;
  }, [key, search, set]);
  return useCallback(
    (id: string) => {
      made.current = { id, before: new URLSearchParams(window.location.search).get("draft") };
      set({ draft: id });
    },
    [set],
  );
}
