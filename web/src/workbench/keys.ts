import { useEffect, useRef } from "react";
import { type KeyBindingMap, tinykeys } from "tinykeys";
import { useLocation } from "react-router";

/** Runs on keys pressed anywhere, as tinykeys writes them: "Escape", "$mod+z", "Shift+?". */
export function useKeys(bindings: KeyBindingMap) {
  const latest = useRef(bindings);
  useEffect(() => {
    latest.current = bindings;
  });
  const names = Object.keys(bindings).join(" ");
  useEffect(() => {
    const fixed: KeyBindingMap = {};
    for (const name of names.split(" ")) fixed[name] = (event) => latest.current[name]?.(event);
    return tinykeys(window, fixed);
  }, [names]);
}

/** Runs on Escape, unless it closes a menu or a dialog. */
export function useEscape(close: () => void) {
  useKeys({
    Escape: (event) => {
      if (!(event.target as HTMLElement).closest("[role=menu], [role=dialog]")) close();
    },
  });
}

/**
 * Runs on Ctrl (or ⌘) and a letter, wherever the focus is. The browser's own use of it rests, also
 * where there is no work.
 */
export function useCtrl(letter: string, work: (() => void) | null) {
  useKeys({
    [`$mod+${letter}`]: (event) => {
      event.preventDefault();
      work?.();
    },
  });
}

/** The run of the board that keys begin at, where there is one. */
export const firstBar = () => document.querySelector<HTMLElement>("main [data-bar][tabindex='0']");

/** What an address is opened with where the focus is to follow into what it shows. */
export const LED = { led: true };

const NEARER = "aside, [role=dialog], main input, main [data-clause]";

/** Puts the focus into a view that was opened as `LED`, unless something nearer in it has it. */
export function useLedFocus() {
  const { key, state } = useLocation() as { key: string; state: typeof LED | null };
  useEffect(() => {
    if (state?.led && !document.activeElement?.closest(NEARER)) focusView();
  }, [key, state]);
}

/** Put the focus where the view begins, past the head of the page; on the board: its first run. */
export function focusView() {
  const main = document.querySelector<HTMLElement>("main");
  const first = firstBar();
  if (main && !first) main.tabIndex = -1;
  (first ?? main)?.focus();
}
