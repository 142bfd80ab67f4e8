import { X } from "lucide-react";
import { type ReactNode, useRef } from "react";
import { useFocusWhileShown } from "./focus";
import { Hint } from "./Hint";

/** The one side sheet: it pushes the main surface aside and has a title and a way out. */
export function Sheet({
  label,
  title,
  onClose,
  children,
}: {
  label: string;
  title: ReactNode;
  onClose: () => void;
  children: ReactNode;
}) {
  const box = useRef<HTMLElement>(null);
  useFocusWhileShown(box);
  return (
    <aside
      ref={box}
      aria-label={label}
      tabIndex={0}
      className="w-[360px] shrink-0 overflow-y-auto border-l border-rule-strong bg-surface px-4 pb-4 narrow:w-full narrow:overflow-visible narrow:border-t narrow:border-l-0"
    >
      {/* Not the sheet's own padding: what sticks to its top would leave that open. */}
      <div className="mt-4 mb-1 flex items-start gap-2">
        <h2 className="min-w-0 flex-1 text-xl leading-tight font-semibold [overflow-wrap:anywhere]">
          {title}
        </h2>
        <Hint text="Close (Esc)">
          <button
            type="button"
            aria-label="Close the sheet"
            data-closes
            onClick={onClose}
            className="p-1 hover:bg-closed"
          >
            <X size={18} aria-hidden />
          </button>
        </Hint>
      </div>
      {children}
    </aside>
  );
}
