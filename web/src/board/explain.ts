/** Runs and reasons in words: what, when, why. */

import type { Job, Reason, Run } from "../api/client";
import { dayClock, duration, durationAtLeast } from "../time/time";
import { bytes, count, resource } from "../ui/words";

export function kindOf(run: Run): string {
  return run.synthetic ? `synthetic ${run.runs_as}` : run.runs_as;
}

/** The chief cause of the delay of a run, as half a sentence. */
function causes(reason: Reason): string {
  const parts = [];
  if (reason.waited_s > 600) {
    const what = reason.waited_for ? ` for slots of ${resource(reason.waited_for)}` : "";
    parts.push(`its last machine waits ${duration(reason.waited_s)}${what}`);
  }
  if (reason.finishing_s > reason.moving_s && reason.finishing_s > 600) {
    parts.push(`release and verify take ${duration(reason.finishing_s)}`);
  } else if (reason.moving_s > 0) {
    const held =
      reason.squeeze && reason.squeeze !== "transport"
        ? `, held back by ${resource(reason.squeeze)}`
        : "";
    parts.push(`it moves for ${duration(reason.moving_s)}${held}`);
  }
  return parts.join("; ");
}

/** What speaks against a night: a headline and its cause. */
export function reasonWords(
  reason: Reason,
  jobs: ReadonlyMap<string, Job>,
  zone: string,
): { what: string; why: string } {
  const name = reason.job ? (jobs.get(reason.job)?.name ?? reason.job) : (reason.machine ?? "");
  const many = reason.runs > 1 ? ` (${count(reason.runs, "run")})` : "";
  const machines = count(reason.machines, "machine");
  switch (reason.kind) {
    case "over the window":
      return {
        what: `${name}: ends ${duration(reason.seconds ?? 0)} late${many}`,
        why: causes(reason),
      };
    case "missed":
      return {
        what: `${name}: ${machines} missed${many}`,
        why: `due ${dayClock(reason.occurrence, zone)}; ${causes(reason) || "it never got to start"}`,
      };
    case "cut off":
      return {
        what: `${name}: ${machines} cut off${many}`,
        why: `due ${dayClock(reason.occurrence, zone)}; ${causes(reason)}`,
      };
    case "no path":
      return {
        what: `${name}: no path for ${machines}${many}`,
        why: "no proxy that the job may use can read them and reach the repository",
      };
    case "close to the end":
      return {
        what: `${name}: ends ${durationAtLeast(reason.seconds ?? 0)} before its window closes${many}`,
        why: causes(reason),
      };
    case "skipped":
      return {
        what: `${name}: ${count(reason.runs, "run")} skipped`,
        why: "the run before was still going when the next was due",
      };
    default:
      return {
        what: `${name}: RPO breaks ${dayClock(reason.occurrence, zone)}`,
        why: "no newer restore point exists by then",
      };
  }
}

/** All that a bar says when it is pointed at. */
export function runLines(run: Run, zone: string): string[] {
  const lines = [];
  if (run.outcome === "skipped") {
    return [
      `Skipped: due ${dayClock(run.occurrence, zone)}, while the run before was still going.`,
    ];
  }
  if (run.first_start && run.ended) {
    const waited = (Date.parse(run.first_start) - Date.parse(run.occurrence)) / 1000;
    lines.push(
      `Due ${dayClock(run.occurrence, zone)}, starts ${dayClock(run.first_start, zone)}, ends ${dayClock(run.ended, zone)}` +
        (waited > 60 ? `; waits ${duration(waited)}` : ""),
    );
  } else {
    lines.push(`Due ${dayClock(run.occurrence, zone)}: no machine started.`);
  }
  if (run.source_bytes > 0) {
    lines.push(
      `${run.done} of ${count(run.machines, "machine")} done; ${bytes(run.source_bytes)} read, ${bytes(run.stored_bytes)} stored`,
    );
  } else lines.push(`${run.done} of ${count(run.machines, "machine")} done`);
  if (run.squeezes.length) {
    const held = run.squeezes
      .slice(0, 2)
      .map((s) => `${resource(s.name)} (${duration(s.seconds)})`)
      .join(", ");
    lines.push(`Its disks were held back by ${held}`);
  }
  if (run.over_s > 0) lines.push(`${duration(run.over_s)} late`);
  return lines;
}

/** A run in one sentence, for screen readers. */
export function runLabel(run: Run, job: Job | undefined, zone: string): string {
  return `${job?.name ?? run.job}, ${kindOf(run)}, ${run.outcome}. ${runLines(run, zone).join(". ")}.`;
}
