import { useSyncExternalStore } from "react";

/** The same width as the variant `narrow` of theme.css. */
const NARROW = "(width < 56rem)";

const query = () => (typeof window.matchMedia === "function" ? window.matchMedia(NARROW) : null);

function watch(onChange: () => void) {
  const found = query();
  found?.addEventListener("change", onChange);
  return () => found?.removeEventListener("change", onChange);
}

/** Whether the window is so narrow, or so enlarged, that things stack. */
export const useNarrow = () => useSyncExternalStore(watch, () => query()?.matches ?? false);
