import { X } from "lucide-react";
import { Dialog } from "radix-ui";

const KEYS: [string[], string][] = [
  [["←", "→"], "Nudge the start by 5 minutes"],
  [["Shift", "← →"], "Nudge by 30 minutes"],
  [["[", "]"], "Move a weekly full to the night before or after"],
  [["↑", "↓"], "Go to the lane above or below; ↓ at first, to the first run"],
  [["n", "p"], "Go to the next or previous run of the lane"],
  [["L"], "Lock or unlock the job"],
  [["Enter"], "Open the job"],
  [["Ctrl", "Z"], "Undo"],
  [["Ctrl", "S"], "Save the moves to the draft"],
  [["Esc"], "Close the sheet"],
  [["F"], "What is wrong with this week, and what helps"],
  [["T"], "The night as a table, and back"],
  [["W"], "The whole week on one axis, and back"],
  [["R"], "Where is room for the job that is open"],
  [["+", "−", "0"], "Zoom in, zoom out, fit the night"],
  [["?"], "This list"],
];

/** The list of keys, opened by `?`. */
export function Keys({ open, onOpen }: { open: boolean; onOpen: (open: boolean) => void }) {
  return (
    <Dialog.Root open={open} onOpenChange={onOpen} modal={false}>
      <Dialog.Portal>
        <Dialog.Content
          aria-describedby={undefined}
          className="fixed top-24 right-6 z-40 w-[420px] narrow:inset-x-2 narrow:top-2 narrow:max-h-[calc(100vh-16px)] narrow:w-auto narrow:overflow-y-auto border border-rule-strong bg-raised p-4 text-ink"
        >
          <div className="mb-2 flex items-center">
            <Dialog.Title className="flex-1 text-lg font-semibold">Keys of the board</Dialog.Title>
            <Dialog.Close aria-label="Close the list" className="p-1 hover:bg-closed">
              <X size={18} aria-hidden />
            </Dialog.Close>
          </div>
          <p className="mb-2 text-ink-2">
            Tab goes to a bar. Dragging a bar does what the arrows do (Shift: minute by minute);
            dragged onto the week strip a weekly full changes its night.
          </p>
          <dl className="grid grid-cols-[auto_1fr] items-center gap-x-4 gap-y-1.5">
            {KEYS.map(([keys, what]) => (
              <div key={what} className="contents">
                <dt className="flex gap-1">
                  {keys.map((key) => (
                    <kbd key={key}>{key}</kbd>
                  ))}
                </dt>
                <dd>{what}</dd>
              </div>
            ))}
          </dl>
        </Dialog.Content>
      </Dialog.Portal>
    </Dialog.Root>
  );
}
