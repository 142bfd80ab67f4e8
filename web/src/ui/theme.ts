import { useEffect, useSyncExternalStore } from "react";

export type Theme = "paper" | "night";

const KEY = "gambrel-theme";
const listeners = new Set<() => void>();
const dark = () => window.matchMedia("(prefers-color-scheme: dark)").matches;

function current(): Theme {
  const saved = localStorage.getItem(KEY);
  return saved === "paper" || saved === "night" ? saved : dark() ? "night" : "paper";
}

export function setTheme(theme: Theme) {
  localStorage.setItem(KEY, theme);
  for (const listener of listeners) listener();
}

/** The theme in use: chosen by hand, else that of the system. */
export function useTheme(): Theme {
  const theme = useSyncExternalStore((listener) => {
    listeners.add(listener);
    return () => listeners.delete(listener);
  }, current);
  useEffect(() => {
    document.documentElement.dataset["theme"] = theme;
  }, [theme]);
  return theme;
}
