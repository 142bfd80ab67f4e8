import { clsx } from "clsx";
import type { ButtonHTMLAttributes, Ref } from "react";

interface Props extends ButtonHTMLAttributes<HTMLButtonElement> {
  look?: "plain" | "outlined" | "strong" | "onEffect";
  /** Lower, for dense lists. */
  small?: boolean;
  ref?: Ref<HTMLButtonElement>;
}

/** The one button. `strong` is for the one thing that a place is for. */
export function Button({ look = "outlined", small = false, className, ...props }: Props) {
  return (
    <button
      type="button"
      className={clsx(
        "inline-flex items-center gap-1.5 rounded-[3px] whitespace-nowrap",
        small ? "h-6 px-1.5" : "h-7 px-2",
        "disabled:opacity-45",
        look === "plain" && "hover:bg-closed",
        look === "outlined" && "border border-rule-strong bg-surface hover:bg-closed",
        look === "strong" && "bg-ink font-semibold text-surface hover:opacity-85",
        look === "onEffect" &&
          "text-effect-ink underline decoration-1 underline-offset-3 hover:text-effect-strong",
        className,
      )}
      {...props}
    />
  );
}
