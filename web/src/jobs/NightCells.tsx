import { clsx } from "clsx";
import { useWorkbench } from "../workbench/store";
import { clock, dateWords, duration } from "../time/time";
import { Hint } from "../ui/Hint";
import { bytes, count } from "../ui/words";
import type { JobNight } from "../api/jobQueries";

const shown = (night: JobNight) => night.verdict ?? "rests";

/** What a job does in a night, in one line. */
export function nightWords(night: JobNight, zone: string): string {
  if (!night.forecast) return "no forecast";
  if (!night.runs) return "does not run";
  const said = [
    together(count(night.runs, "run")),
    night.kinds.join(" and ") || "nothing moved",
    night.start && together(`from ${clock(night.start, zone)}`),
    night.end && together(`to ${clock(night.end, zone)}`),
    together(`${bytes(night.wire_bytes)} sent`),
    night.over_s > 0 && together(`${duration(night.over_s)} late`),
    night.not_done > 0 && `${count(night.not_done, "machine")} not backed up`,
  ];
  return said.filter(Boolean).join(", ");
}

/** Words that stay on one line. */
const together = (words: string) => words.replaceAll(" ", "\u00a0");

/** The week of a job as seven small marks: high for fulls, low for changes, open for none. */
export function NightMarks({ nights }: { nights: readonly JobNight[] }) {
  const { plan } = useWorkbench();
  return (
    <span
      className="flex items-end gap-[3px]"
      role="img"
      aria-label={nights.map((n) => `${dateWords(n.date).short} ${shown(n)}`).join(", ")}
    >
      {nights.map((night) => {
        const full = night.kinds.some((kind) => kind.includes("full"));
        return (
          <Hint
            key={night.date}
            text={`${dateWords(night.date).short}: ${nightWords(night, plan.time_zone)}`}
          >
            <i
              className={clsx(
                "block w-[9px]",
                !night.runs && "h-[5px] border-b border-rule-strong",
                night.runs > 0 && (full ? "h-[14px]" : "h-[7px]"),
                night.runs > 0 &&
                  (night.verdict === "over"
                    ? "bg-barn"
                    : night.verdict === "tight"
                      ? "bg-hay"
                      : full
                        ? "bg-slate"
                        : "bg-sage"),
              )}
            />
          </Hint>
        );
      })}
    </span>
  );
}
