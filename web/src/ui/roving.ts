import { type RefCallback, useCallback, useRef } from "react";

const STOPS = "a[href], button:not(:disabled), input:not(:disabled), select, summary, tr[tabindex]";
const PAGE = 10;

/** Rows of stops as they stand on the page: those whose middles are at one height are one row. */
function rowsOf(stops: readonly HTMLElement[]): HTMLElement[][] {
  const rows: { key: unknown; stops: HTMLElement[] }[] = [];
  for (const stop of stops) {
    const key = stop.closest("tr, [role=row], [data-row]") ?? Math.round(middle(stop).y / 8);
    const last = rows.at(-1);
    if (last && last.key === key) last.stops.push(stop);
    else rows.push({ key, stops: [stop] });
  }
  return rows.map((row) => row.stops);
}

function middle(element: HTMLElement) {
  const box = element.getBoundingClientRect();
  return { x: box.left + box.width / 2, y: box.top + box.height / 2 };
}

function nearest(row: readonly HTMLElement[], x: number): HTMLElement {
  return row.reduce((best, each) =>
    Math.abs(middle(each).x - x) < Math.abs(middle(best).x - x) ? each : best,
  );
}

/** Where a key leads from a stop among rows of them; null for a key that leads nowhere. */
export function reached(
  rows: readonly (readonly HTMLElement[])[],
  from: HTMLElement,
  key: string,
): HTMLElement | null {
  const r = rows.findIndex((row) => row.includes(from));
  const row = rows[r];
  if (!row) return null;
  const c = row.indexOf(from);
  const flat = rows.flat();
  const to = (index: number) =>
    nearest(rows[Math.min(rows.length - 1, Math.max(0, index))]!, middle(from).x);
  switch (key) {
    case "ArrowRight":
      return flat[flat.indexOf(from) + 1] ?? null;
    case "ArrowLeft":
      return flat[flat.indexOf(from) - 1] ?? null;
    case "ArrowDown":
      return r + 1 < rows.length ? to(r + 1) : null;
    case "ArrowUp":
      return r > 0 ? to(r - 1) : null;
    case "PageDown":
      return to(r + PAGE);
    case "PageUp":
      return to(r - PAGE);
    case "Home":
      return c > 0 ? row[0]! : (rows[0]?.[0] ?? null);
    case "End":
      return c < row.length - 1 ? row.at(-1)! : (rows.at(-1)?.at(-1) ?? null);
    default:
      return null;
  }
}

const isTyped = (element: HTMLElement) =>
  element.matches("textarea, select, input:not([type=checkbox], [type=radio])");

/**
 * Makes what can be used in a table or grid one stop of the Tab key, with arrow keys inside. The
 * stop is the one that was used last, at first the first.
 */
export function useRoving<T extends HTMLElement>(): RefCallback<T> {
  const end = useRef<(() => void) | null>(null);
  return useCallback((box: T | null) => {
    end.current?.();
    end.current = null;
    if (!box) return;
    const stops = () =>
      [...box.querySelectorAll<HTMLElement>(STOPS)].filter((each) => !each.closest("[inert]"));
    let current: HTMLElement | null = null;
    const settle = () => {
      const all = stops();
      if (!current || !all.includes(current)) current = all[0] ?? null;
      for (const each of all) {
        const index = each === current ? 0 : -1;
        if (each.tabIndex !== index) each.tabIndex = index;
      }
    };
    const onFocus = (event: FocusEvent) => {
      const stop = (event.target as HTMLElement).closest<HTMLElement>(STOPS);
      if (!stop || !box.contains(stop) || stop === current) return;
      current = stop;
      settle();
    };
    const onKey = (event: KeyboardEvent) => {
      const from = event.target as HTMLElement;
      if (event.defaultPrevented || event.ctrlKey || event.altKey || event.metaKey) return;
      if (isTyped(from) || !box.contains(from)) return;
      const next = reached(rowsOf(stops()), from, event.key);
      if (!next) return;
      event.preventDefault();
      event.stopPropagation();
      next.focus();
      next.scrollIntoView({ block: "nearest", inline: "nearest" });
    };
    const changes = new MutationObserver(settle);
    box.addEventListener("focusin", onFocus);
    // After the keys of whatever is in it, which are handled at the root of the page.
    document.addEventListener("keydown", onKey);
    changes.observe(box, { childList: true, subtree: true });
    settle();
    end.current = () => {
      changes.disconnect();
      box.removeEventListener("focusin", onFocus);
      document.removeEventListener("keydown", onKey);
    };
  }, []);
}
