import { useEffect, useRef } from "react";

/** Runs on Escape, unless it closes a menu or a dialog. */
export function useEscape(close: () => void) {
  useEffect(() => {
    const onKey = (event: KeyboardEvent) => {
      if (
        event.key === "Escape" &&
        !(event.target as HTMLElement).closest("[role=menu], [role=dialog]")
      )
        close();
    };
    window.addEventListener("keydown", onKey);
    return () => window.removeEventListener("keydown", onKey);
  }, [close]);
}

/**
 * Runs on Ctrl (or ⌘) and a letter, wherever the focus is; the browser's own use of it rests, also
 * without work.
 */
export function useCtrl(letter: string, work: (() => void) | null) {
  const latest = useRef(work);
  useEffect(() => {
    latest.current = work;
  });
  useEffect(() => {
    const onKey = (event: KeyboardEvent) => {
      if (event.key.toLowerCase() !== letter || !(event.ctrlKey || event.metaKey)) return;
      event.preventDefault();
      latest.current?.();
    };
    window.addEventListener("keydown", onKey);
    return () => window.removeEventListener("keydown", onKey);
  }, [letter]);
}

/** The run of the board that keys begin at, where there is one. */
export const firstBar = () => document.querySelector<HTMLElement>("main [data-bar][tabindex='0']");
