import { Tooltip } from "radix-ui";
import type { ReactElement, ReactNode } from "react";

/** A short explanation that shows on hover and on focus. */
export function Hint({
  text,
  quiet = false,
  children,
}: {
  text: ReactNode;
  /** Do not show it now, for something else goes on. */
  quiet?: boolean;
  children: ReactElement;
}) {
  return (
    <Tooltip.Root {...(quiet && { open: false })}>
      <Tooltip.Trigger asChild>{children}</Tooltip.Trigger>
      {/* Inside the view, so that it stands in a landmark of the page. */}
      <Tooltip.Portal container={document.querySelector("main")}>
        <Tooltip.Content
          sideOffset={6}
          collisionPadding={8}
          className="z-50 max-w-80 border border-rule-strong bg-raised px-2.5 py-1.5 text-xs text-ink"
        >
          {text}
        </Tooltip.Content>
      </Tooltip.Portal>
    </Tooltip.Root>
  );
}
