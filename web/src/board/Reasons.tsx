import { memo, useState } from "react";
import type { Night } from "../api/client";
import { useWorkbench } from "../workbench/store";
import { reasonWords } from "./explain";

const SHOWN_REASONS = 3;

/** Why a night is not simply fine: the gravest reasons, each with its cause. */
export const Reasons = memo(function Reasons({
  night,
  onOpen,
}: {
  night: Night;
  onOpen: (job: string) => void;
}) {
  const { jobs } = useWorkbench();
  const [all, setAll] = useState(false);
  if (!night.reasons.length) return <div className="h-2" />;
  const shown = all ? night.reasons : night.reasons.slice(0, SHOWN_REASONS);
  const more = night.reasons.length - SHOWN_REASONS;
  return (
    <ul aria-label="Why" className="px-4 pt-1 pb-2">
      {shown.map((reason, i) => {
        const { what, why } = reasonWords(reason, jobs, night.time_zone);
        return (
          <li
            key={`${reason.kind} ${reason.job} ${reason.machine}`}
            className="flex gap-2 leading-[20px]"
          >
            <button
              type="button"
              className="min-w-0 truncate text-left hover:underline narrow:whitespace-normal"
              disabled={!reason.job}
              onClick={() => reason.job && onOpen(reason.job)}
            >
              <strong
                className={
                  ["over the window", "missed", "cut off", "no path"].includes(reason.kind)
                    ? "text-barn"
                    : "text-hay-text"
                }
              >
                {what}
              </strong>
              {why && <span>; {why}</span>}
            </button>
            {i === SHOWN_REASONS - 1 && more > 0 && !all && (
              <button
                type="button"
                className="text-ink-2 underline underline-offset-2"
                onClick={() => setAll(true)}
              >
                {more} more
              </button>
            )}
          </li>
        );
      })}
      {all && more > 0 && (
        <li>
          <button
            type="button"
            className="text-ink-2 underline underline-offset-2"
            onClick={() => setAll(false)}
          >
            Fewer
          </button>
        </li>
      )}
    </ul>
  );
});
