/** What this browser keeps under a key; null where there is nothing that can be read. */
export function kept<T>(key: string): T | null {
  try {
    return JSON.parse(localStorage.getItem(key) ?? "null") as T | null;
  } catch {
    return null;
  }
}

/** Keep something in this browser; one that keeps nothing holds it while the page is open. */
export function keep(key: string, value: unknown) {
  try {
    localStorage.setItem(key, JSON.stringify(value));
  } catch {
    // Full, or closed to pages.
  }
}
