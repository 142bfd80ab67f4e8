import { useQuery } from "@tanstack/react-query";
import { ArrowLeft, Printer } from "lucide-react";
import type { ReactNode } from "react";
import { Link } from "react-router";
import { type Report, reportQuery } from "../api/runQueries";
import { clock, dateWords, dayClock, duration } from "../time/time";
import { Button } from "../ui/Button";
import { Pending } from "../ui/Pending";
import { Verdict } from "../ui/Verdict";
import { count } from "../ui/words";

const MOST = 14;

/** The page for the first coffee: the verdict, what needs a hand, what was left, what differed. */
export function MorningReport({
  plan,
  night,
  back,
}: {
  plan: number;
  night: string;
  back: string;
}) {
  const found = useQuery(reportQuery(plan, night));
  if (found.error || !found.data)
    return <Pending error={found.error} text="Writing the report …" />;
  const report = found.data;
  const zone = report.summary.zone;
  const { long, day, month, year } = dateWords(night);
  return (
    <article
      aria-label="Morning report"
      tabIndex={0}
      className="min-h-0 flex-1 overflow-y-auto px-6 pb-6 print:overflow-visible"
    >
      <div className="flex items-baseline gap-4 pt-3">
        <h1 className="flex-1 text-xl font-semibold">
          The night of {long} {day} {month} {year}
        </h1>
        <Link to={back} className="inline-flex items-center gap-1 underline print:hidden">
          <ArrowLeft size={14} aria-hidden /> The night
        </Link>
        <Button className="print:hidden" onClick={() => window.print()}>
          <Printer size={14} aria-hidden /> Print
        </Button>
      </div>
      <p className="text-ink-2">
        {report.plan}, as of {dayClock(report.at, zone)} ({zone})
      </p>
      <p className="max-w-[100ch] py-2 text-lg">
        <Verdict verdict={report.summary.verdict} />. {report.words}
      </p>
      {report.silent_since && (
        <p className="text-barn">
          The runner fell silent at {dayClock(report.silent_since, zone)}.
        </p>
      )}
      <NeedsHand report={report} zone={zone} />
      <Part title="Left behind" empty="Nothing was left behind.">
        {report.left.map((each) => (
          <li key={`${each.machine} ${each.what}`} className="border-t border-rule py-0.5">
            <strong>{each.machine}</strong> {LEFT[each.what] ?? each.what}, since{" "}
            {dayClock(each.since, zone)}
          </li>
        ))}
      </Part>
      <Part
        title="Other than predicted"
        empty="Every run ended within 15 minutes of its prediction."
      >
        {report.differences.slice(0, MOST).map((each) => (
          <li key={`${each.job} ${each.occurrence}`} className="border-t border-rule py-0.5">
            <strong>{report.jobs.find((job) => job.job === each.job)?.name ?? each.job}</strong>{" "}
            ended {each.ended && clock(each.ended, zone)}, {duration(Math.abs(each.late_s))}{" "}
            {each.late_s > 0 ? "later" : "earlier"}. <span className="text-ink-2">{each.why}</span>
          </li>
        ))}
      </Part>
      {report.taught.length > 0 && (
        <Part title="What the night showed" empty="">
          {report.taught.map((each) => (
            <li key={each} className="border-t border-rule py-0.5">
              {each}
            </li>
          ))}
        </Part>
      )}
      {report.standing.length > 0 && (
        <Part title="Standing troubles" empty="">
          {report.standing.slice(0, MOST).map((each) => (
            <li key={each.what} className="border-t border-rule py-0.5">
              <strong>{each.what}</strong> <span className="text-ink-2">{each.why}</span>
            </li>
          ))}
        </Part>
      )}
      <Jobs report={report} zone={zone} />
      {report.tests.length > 0 && (
        <Part title="Restore tests today" empty="">
          {report.tests.slice(0, MOST).map((each) => (
            <li key={each.machine} className="border-t border-rule py-0.5">
              {dayClock(each.starts, zone)} <strong>{each.machine}</strong>
            </li>
          ))}
        </Part>
      )}
      <section aria-label="Tonight" className="pt-3">
        <h2 className="text-lg font-semibold">Tonight</h2>
        {report.tonight ? (
          <p>
            <Verdict verdict={report.tonight.verdict} />
            {report.tonight.last_end &&
              `, the last run is predicted to end ${dayClock(report.tonight.last_end, zone)}`}
            {report.tonight.over_s > 0 && `, ${duration(report.tonight.over_s)} past a window`}
            {report.tonight.missed > 0 &&
              `, ${count(report.tonight.missed, "machine")} would not be backed up`}
            .
          </p>
        ) : (
          <p className="text-ink-2">The night after this one is past too.</p>
        )}
        {report.broken.map((each) => (
          <p key={each.tier}>
            <strong>{each.tier}</strong>:{" "}
            {[
              each.rpo && `${count(each.rpo, "machine")} would lose more work than promised (RPO)`,
              each.rto && `${count(each.rto, "machine")} would be back later than promised (RTO)`,
            ]
              .filter(Boolean)
              .join("; ")}
            .
          </p>
        ))}
      </section>
    </article>
  );
}

const LEFT: Record<string, string> = {
  locked: "is locked",
  snapshot: "still has a snapshot of its backup",
  mount: "still has something mounted",
};

function Part({ title, empty, children }: { title: string; empty: string; children: ReactNode[] }) {
  return (
    <section aria-label={title} className="pt-3">
      <h2 className="text-lg font-semibold">{title}</h2>
      {children.length ? <ul>{children}</ul> : <p className="text-ink-2">{empty}</p>}
    </section>
  );
}

function NeedsHand({ report, zone }: { report: Report; zone: string }) {
  const shown = report.needs_hand.slice(0, MOST);
  const more = report.needs_hand.length - shown.length;
  return (
    <section aria-label="Needs a hand" className="pt-1">
      <h2 className="text-lg font-semibold">Needs a hand</h2>
      {!shown.length && <p className="text-ink-2">Nothing: every machine has its backup.</p>}
      <ol>
        {shown.map((each) => (
          <li key={each.machine} className="border-t border-rule py-1">
            <strong>{each.machine}</strong>{" "}
            <span className="text-ink-2">{each.tags.join(", ")}</span>{" "}
            <span className={each.breaks_rpo ? "font-semibold text-barn" : ""}>
              {each.exposure_s === null
                ? "has no restore point"
                : `newest point ${duration(each.exposure_s)} old`}
              {each.rpo_s !== null && `, RPO ${duration(each.rpo_s)}`}
            </span>
            {each.also.length > 0 && (
              <span title={each.also.join(", ")}>
                , and {count(each.also.length, "more machine")}
              </span>
            )}
            <br />
            {each.why}. <span className="text-ink-2">{each.advice}</span>
          </li>
        ))}
      </ol>
      {more > 0 && <p className="border-t border-rule py-1">and {count(more, "more machine")}</p>}
      <span className="sr-only">Times are of {zone}</span>
    </section>
  );
}

function Jobs({ report, zone }: { report: Report; zone: string }) {
  const bad = report.jobs.filter((job) => job.outcome !== "done");
  const done = report.jobs.length - bad.length;
  return (
    <section aria-label="Jobs" className="pt-3">
      <h2 className="text-lg font-semibold">Runs</h2>
      <p>{count(done, "run")} done in full.</p>
      {bad.length > 0 && (
        <ul>
          {bad.slice(0, MOST).map((job, i) => (
            <li key={i} className="border-t border-rule py-0.5">
              <strong>{job.name}</strong> <span className="text-barn">{job.outcome}</span>,{" "}
              {job.done} of {count(job.total, "machine")} done
              {job.ended && `, ended ${clock(job.ended, zone)}`}
            </li>
          ))}
        </ul>
      )}
    </section>
  );
}
