import { clsx } from "clsx";

/** The verdict of a night, as a word; the colour only repeats it. */
export function Verdict({ verdict }: { verdict: string | null }) {
  return (
    <span
      className={clsx(
        "font-semibold",
        verdict === "over" && "text-barn",
        verdict === "tight" && "text-hay-text",
        verdict !== "over" && verdict !== "tight" && "text-ink-2",
      )}
    >
      {verdict ?? "no forecast"}
    </span>
  );
}
