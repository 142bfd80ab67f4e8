import { TableFiles } from "../ui/TableFiles";
import { useQuery } from "@tanstack/react-query";
import { ChevronRight } from "lucide-react";
import { useState } from "react";
import { Link } from "react-router";
import type { Finding, Suggestion } from "../api/client";
import { helpQuery } from "../api/planQueries";
import { useFindings } from "../workbench/findings";
import { useJobLinks } from "../workbench/links";
import { useWorkbench } from "../workbench/store";
import { duration, mondayOf } from "../time/time";
import { Button } from "../ui/Button";
import { Sheet } from "../ui/Sheet";
import { count } from "../ui/words";

const GRAVITIES = [
  { gravity: "breaks", title: "Does not get done", tone: "text-barn" },
  { gravity: "risks", title: "May go wrong", tone: "text-hay-text" },
  { gravity: "wastes", title: "Costs more than it must", tone: "text-ink-2" },
];

/** What is wrong with the week, class by class, and what would help. */
export function FindingsSheet({
  onClose,
  onOpenJob,
}: {
  onClose: () => void;
  onOpenJob: (job: string) => void;
}) {
  const { plan, draft, date } = useWorkbench();
  const { findings, before, error } = useFindings();
  return (
    <Sheet
      label="Findings"
      title={findings ? count(findings.length, "finding") : "Findings"}
      onClose={onClose}
    >
      <p className="mb-3 text-ink-2">
        of this week{draft && before ? `; the adopted plan has ${before.length}` : ""}{" "}
        <TableFiles
          of={`plans/${plan.id}/tables/findings`}
          what="Findings"
          query={{ day: date, draft: draft?.id }}
        />
      </p>
      {error && <p role="alert">{error.message}</p>}
      {!findings && !error && <p role="status">Looking for them …</p>}
      {findings?.length === 0 && <p>Nothing is wrong with this week.</p>}
      {GRAVITIES.map(({ gravity, title, tone }) => {
        const own = findings?.filter((finding) => finding.gravity === gravity) ?? [];
        if (!own.length) return null;
        const kinds = [...new Set(own.map((finding) => finding.kind))];
        return (
          <section key={gravity} className="mb-4">
            <h3 className={`mb-1 font-semibold ${tone}`}>{title}</h3>
            {kinds.map((kind) => (
              <Class
                key={kind}
                kind={kind}
                findings={own.filter((finding) => finding.kind === kind)}
                open={gravity === "breaks"}
                onOpenJob={onOpenJob}
              />
            ))}
          </section>
        );
      })}
    </Sheet>
  );
}

function Class({
  kind,
  findings,
  open,
  onOpenJob,
}: {
  kind: string;
  findings: Finding[];
  open: boolean;
  onOpenJob: (job: string) => void;
}) {
  return (
    <details open={open} className="group border-t border-rule">
      <summary className="flex cursor-pointer list-none items-center gap-1 py-1 hover:bg-closed">
        <ChevronRight
          size={14}
          aria-hidden
          className="shrink-0 transition-transform group-open:rotate-90"
        />
        <span className="flex-1 first-letter:uppercase">{kind}</span>
        <span className="text-ink-2 tabular-nums">{findings.length}</span>
      </summary>
      <ul className="pb-1">
        {findings.map((finding) => (
          <Entry key={finding.key} finding={finding} onOpenJob={onOpenJob} />
        ))}
      </ul>
    </details>
  );
}

/** Classes against which operations can be tried. */
const HELPED = new Set([
  "over the window",
  "missed",
  "cut off",
  "skipped",
  "interval too short",
  "no path",
  "verify runs into the next run",
  "pin forces a worse transport",
  "disk read across sites",
  "unprotected",
  "protected twice",
  "backup disk as a source",
  "fulls clumped",
  "squeeze with idle peers",
  "proxy that no job can use",
]);

function Entry({ finding, onOpenJob }: { finding: Finding; onOpenJob: (job: string) => void }) {
  const [asked, setAsked] = useState(false);
  const links = useJobLinks();
  const job = finding.subjects.find((subject) => subject.kind === "job")?.id;
  return (
    <li className="py-1.5 pl-[18px]">
      <p className="leading-snug font-medium">{finding.what}</p>
      <p className="leading-snug text-ink-2">{finding.why}</p>
      <p className="flex gap-3 pt-0.5">
        {HELPED.has(finding.kind) && !asked && (
          <button
            type="button"
            className="underline underline-offset-2"
            onClick={() => setAsked(true)}
          >
            What helps?
          </button>
        )}
        {job && (
          <button
            type="button"
            className="underline underline-offset-2"
            onClick={() => onOpenJob(job)}
          >
            Open the job
          </button>
        )}
        {finding.kind === "unprotected" && (
          <Link
            className="underline underline-offset-2"
            to={links.fresh(finding.subjects.filter((s) => s.kind === "machine").map((s) => s.id))}
          >
            A new job for it
          </Link>
        )}
      </p>
      {asked && <Help finding={finding} />}
    </li>
  );
}

function Help({ finding }: { finding: Finding }) {
  const { plan, draft, date } = useWorkbench();
  const help = useQuery(helpQuery(plan, draft, mondayOf(date), finding.key));
  if (help.error) return <p role="alert">{help.error.message}</p>;
  if (!help.data)
    return (
      <p role="status" className="text-ink-2">
        Trying changes, one simulation each …
      </p>
    );
  if (!help.data.suggestions.length)
    return (
      <p className="text-ink-2">{count(help.data.tried, "change")} tried; none helps on its own.</p>
    );
  return (
    <ul aria-label="What helps">
      {help.data.suggestions.map((suggestion) => (
        <Offer key={suggestion.words} suggestion={suggestion} />
      ))}
    </ul>
  );
}

function Offer({ suggestion }: { suggestion: Suggestion }) {
  const { put, busy, moves } = useWorkbench();
  const left =
    suggestion.after === 0
      ? "The finding is gone."
      : `${Math.round((100 * suggestion.after) / suggestion.before)} % of it is left.`;
  const over =
    suggestion.over_s_before > 0
      ? ` All runs of the week together end ${duration(suggestion.over_s_after)} past their windows (now ${duration(suggestion.over_s_before)}).`
      : "";
  const lost =
    suggestion.not_done_before > 0
      ? ` ${count(suggestion.not_done_after, "machine")} not backed up (now ${suggestion.not_done_before}).`
      : "";
  return (
    <li className="mt-2 border-l-2 border-sage pl-2">
      <p className="leading-snug">{suggestion.words}</p>
      <p className="leading-snug text-ink-2">
        {left}
        {over}
        {lost}
      </p>
      <Button
        className="mt-1"
        disabled={busy !== null || moves.length > 0}
        onClick={() => put(suggestion.operations)}
      >
        Add to draft
      </Button>
    </li>
  );
}
