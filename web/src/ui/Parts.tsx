import { clsx } from "clsx";
import type { ReactNode } from "react";

/** The parts of a view, chosen by words; what else the view offers stands at the right. */
export function Parts<Part extends string>({
  label,
  parts,
  chosen,
  onChoose,
  children,
}: {
  label: string;
  parts: readonly { part: Part; title: string }[];
  chosen: string;
  onChoose: (part: Part) => void;
  children?: ReactNode;
}) {
  return (
    <nav
      aria-label={label}
      className="flex h-9 shrink-0 items-stretch gap-1 border-b border-rule px-4 narrow:h-auto narrow:flex-wrap print:hidden"
    >
      {parts.map((each) => (
        <button
          key={each.part}
          type="button"
          aria-current={chosen === each.part ? "page" : undefined}
          className={clsx(
            "border-b-2 px-2",
            chosen === each.part
              ? "border-ink font-semibold"
              : "border-transparent text-ink-2 hover:text-ink",
          )}
          onClick={() => onChoose(each.part)}
        >
          {each.title}
        </button>
      ))}
      {children}
    </nav>
  );
}
