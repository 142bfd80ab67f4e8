import { type RefObject, useEffect, useLayoutEffect, useState } from "react";

/** Give an element the focus, also one that is no stop for the Tab key. */
export function focusOn(element: HTMLElement) {
  if (element.tabIndex < 0 && !element.hasAttribute("tabindex")) element.tabIndex = -1;
  element.focus({ preventScroll: true });
}

/** An element and what it is in, up to the body. */
function pathOf(element: Element | null): HTMLElement[] {
  const found: HTMLElement[] = [];
  for (let each = element; each && each !== document.body; each = each.parentElement)
    if (each instanceof HTMLElement) found.push(each);
  return found;
}

const isLost = () => document.activeElement === null || document.activeElement === document.body;

/** The view that is open: where the focus goes when nothing nearer is left. */
const view = () => document.querySelector<HTMLElement>("main");

/** Gives the focus back, when this goes, to what had it before this came. */
export function useFocusBack() {
  // A field in it that takes the focus does so after this, and before any effect runs.
  const [path] = useState(() => pathOf(document.activeElement));
  // At once, before whoever looks after the focus of the page sees that it is lost.
  useLayoutEffect(
    () => () => {
      requestAnimationFrame(() => {
        if (!isLost()) return;
        const [before] = path;
        const back = before?.isConnected ? before : successor(path);
        if (back) focusOn(back);
      });
    },
    [path],
  );
}

/**
 * Has the focus when it is shown, unless a field in it takes it, and gives it back. What is marked
 * with `data-first` in it has the focus in its place: what most come for.
 */
export function useFocusWhileShown(box: RefObject<HTMLElement | null>) {
  useFocusBack();
  useEffect(() => {
    const own = box.current;
    if (own && !own.contains(document.activeElement))
      focusOn(own.querySelector<HTMLElement>("[data-first]") ?? own);
  }, [box]);
}

const FOCUSABLE = "a[href], button:not(:disabled), input:not(:disabled), [tabindex]";

const FIELD = "input:not(:disabled), select, textarea";

/** What takes the place of an element that is gone: of its kind if there is one, else around it. */
function successor(path: readonly HTMLElement[]): HTMLElement | null {
  const [gone] = path;
  const around = path.slice(1).find((each) => each.isConnected && each !== document.body);
  if (!gone || !around) return view();
  for (const name of ["bar", "job"]) {
    const value = gone.dataset[name];
    const alike =
      value && around.querySelector<HTMLElement>(`[data-${name}="${CSS.escape(value)}"]`);
    if (alike) return alike;
  }
  const close = path
    .slice(1)
    .find(
      (each) => each.isConnected && (each.tabIndex >= 0 || each.matches("main, [role=dialog]")),
    );
  const field = around.querySelector<HTMLElement>(`form :is(${FIELD})`);
  const other = [...around.querySelectorAll<HTMLElement>(FOCUSABLE)].find(
    (each) => !each.matches("[data-closes]"),
  );
  return field ?? other ?? close ?? view();
}

/**
 * Keeps the focus on the page's own things: where what has it is taken away or cannot be used any
 * more, it goes to what stands nearest, never to the page as a whole. Returns what ends that.
 */
export function keepFocus(): () => void {
  let path: HTMLElement[] = [];
  const note = (event: FocusEvent) => {
    path = pathOf(event.target as Element);
  };
  let waiting = 0;
  const look = () => {
    const [last] = path;
    if (!last || !isLost()) return;
    const usable = last.isConnected && !last.matches(":disabled");
    // Somebody clicked beside everything: that is no loss.
    if (usable) return;
    const next = successor(path);
    if (next) focusOn(next);
  };
  const changes = new MutationObserver(() => {
    cancelAnimationFrame(waiting);
    // After whoever opens or closes something has had its turn: two frames after the last change,
    // so the second wait is called off by a change just as the first is.
    waiting = requestAnimationFrame(() => {
      waiting = requestAnimationFrame(look);
    });
  });
  document.addEventListener("focusin", note);
  changes.observe(document.body, {
    childList: true,
    subtree: true,
    attributes: true,
    attributeFilter: ["disabled"],
  });
  return () => {
    document.removeEventListener("focusin", note);
    changes.disconnect();
    cancelAnimationFrame(waiting);
  };
}
