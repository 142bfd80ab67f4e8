import type { KeyboardEventHandler, PointerEventHandler, ReactNode } from "react";
import { Hint } from "../ui/Hint";
import { LABEL_WIDTH } from "./geometry";
import type { Bar } from "./geometry";

interface Props {
  bar: Bar;
  box: { left: number; width: number; top: number; height: number };
  label: string;
  hint: ReactNode;
  quiet: boolean;
  movable: boolean;
  dragged: boolean;
  tabStop: boolean;
  onFocus: () => void;
  onHover: (on: boolean) => void;
  onKeyDown: KeyboardEventHandler;
  onPointerDown: PointerEventHandler;
}

/**
 * What stands over a drawn bar: it takes the pointer and the keys, and speaks to screen readers.
 */
export function BarHandle(props: Props) {
  const { bar, box, label, hint, quiet, movable, dragged, tabStop, onHover, ...handlers } = props;
  const handle = (
    <button
      type="button"
      className="bar-handle pointer-events-auto"
      data-bar={bar.id}
      data-job={bar.run.job}
      data-movable={movable}
      aria-label={label}
      aria-keyshortcuts="ArrowLeft ArrowRight Shift+ArrowLeft Shift+ArrowRight [ ] L Enter"
      tabIndex={tabStop ? 0 : -1}
      style={{
        left: LABEL_WIDTH + box.left,
        width: box.width,
        top: box.top,
        height: box.height,
        ...(dragged && { cursor: "grabbing" }),
      }}
      onPointerEnter={() => onHover(true)}
      onPointerLeave={() => onHover(false)}
      {...handlers}
    />
  );
  return (
    <Hint text={hint} quiet={quiet}>
      {handle}
    </Hint>
  );
}
