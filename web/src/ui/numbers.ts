/** A number as people type it: with a point or a comma. NaN where it is none. */
export function typedNumber(text: string): number {
  return text.trim() ? Number(text.trim().replace(",", ".")) : Number.NaN;
}
