/**
 * How well a name fits what is typed, from 0 (not at all) to 1. Every word must be in it.
 * It counts more where a word of the name begins so, and most where the name itself does.
 */
export function fit(name: string, typed: string, more: readonly string[] = []): number {
  const words = typed.toLowerCase().split(/\s+/).filter(Boolean);
  const text = [name, ...more].join(" ").toLowerCase();
  let least = 1;
  for (const word of words) {
    const at = text.indexOf(word);
    if (at < 0) return 0;
    const begins = at === 0 || text.split(/[\s\-_/]+/).some((part) => part.startsWith(word));
    least = Math.min(least, at === 0 ? 1 : begins ? 0.8 : 0.4);
  }
  return least;
}
