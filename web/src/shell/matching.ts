/**
 * How well a name fits what is typed, from 0 (not at all) to 1. Every word must be in it.
 * It counts more where a word of the name begins so, and most where the name itself does.
 * First letters of words that follow each other will do as well: "qh" for quay-hill.
 */
export function fit(name: string, typed: string, more: readonly string[] = []): number {
  const words = typed.toLowerCase().split(/\s+/).filter(Boolean);
  const text = [name, ...more].join(" ").toLowerCase();
  const parts = text.split(/[\s\-_/]+/);
  const initials = parts.map((part) => part.charAt(0)).join("");
  let least = 1;
  for (const word of words) {
    const at = text.indexOf(word);
    if (at < 0 && (word.length < 2 || !initials.includes(word))) return 0;
    const begins = at === 0 || parts.some((part) => part.startsWith(word));
    least = Math.min(least, at === 0 ? 1 : begins ? 0.8 : at > 0 ? 0.4 : 0.2);
  }
  return least;
}
