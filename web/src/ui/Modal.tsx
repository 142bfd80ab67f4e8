import { X } from "lucide-react";
import { Dialog } from "radix-ui";
import { FocusScope } from "radix-ui/internal";
import type { ReactNode } from "react";
import { useFocusBack } from "./focus";

function FocusBack() {
  useFocusBack();
  return null;
}

/**
 * Keeps the focus inside while it is there; where it goes after is the matter of `useFocusBack`. A
 * modal dialog of the library would trap it too, but writes styles that the content security
 * policy refuses.
 */
function FocusTrap({ children }: { children: ReactNode }) {
  return (
    <FocusScope.Root
      asChild={false}
      trapped
      loop
      onUnmountAutoFocus={(event) => event.preventDefault()}
    >
      {children}
    </FocusScope.Root>
  );
}

/**
 * The one dialog that asks before it goes on. Modal ones of the library write styles into the
 * page.
 */
export function Modal({
  open,
  onOpen,
  title,
  wide = false,
  children,
}: {
  open: boolean;
  onOpen: (open: boolean) => void;
  title: string;
  wide?: boolean;
  children: ReactNode;
}) {
  return (
    <Dialog.Root open={open} onOpenChange={onOpen} modal={false}>
      <Dialog.Portal>
        <div aria-hidden className="fixed inset-0 z-40 bg-closed opacity-70" />
        <Dialog.Content
          aria-describedby={undefined}
          onInteractOutside={(event) => event.preventDefault()}
          onCloseAutoFocus={(event) => event.preventDefault()}
          className={`fixed top-24 left-1/2 z-50 max-h-[75vh] max-w-[calc(100vw-16px)] narrow:top-2 narrow:max-h-[calc(100vh-16px)] ${wide ? "w-[900px]" : "w-[560px]"} -translate-x-1/2 overflow-y-auto border border-rule-strong bg-raised p-5 text-ink`}
        >
          <FocusTrap>
            <div className="mb-2 flex items-start">
              <Dialog.Title className="flex-1 text-xl font-semibold">{title}</Dialog.Title>
              <Dialog.Close aria-label="Close" data-closes className="p-1 hover:bg-closed">
                <X size={18} aria-hidden />
              </Dialog.Close>
            </div>
            <FocusBack />
            {children}
          </FocusTrap>
        </Dialog.Content>
      </Dialog.Portal>
    </Dialog.Root>
  );
}
