import { useQuery } from "@tanstack/react-query";
import { Download, Printer } from "lucide-react";
import { nightSheetFile, nightSheetQuery } from "../api/runQueries";
import { dayClock } from "../time/time";
import { Button } from "../ui/Button";
import { Pending } from "../ui/Pending";
import { Verdict } from "../ui/Verdict";
import { useWorkbench } from "../workbench/store";

/** The page to take along for a night: what runs in order, what to check, whom to call. */
export function NightSheet() {
  const { plan, draft, date } = useWorkbench();
  const found = useQuery(nightSheetQuery(plan.id, draft, date));
  if (found.error || !found.data)
    return <Pending error={found.error} text="Writing the night sheet …" />;
  const sheet = found.data;
  const at = (instant: string | null) => (instant ? dayClock(instant, sheet.zone) : "");
  return (
    <article
      aria-label="Night sheet"
      tabIndex={0}
      className="min-h-0 flex-1 overflow-y-auto px-6 pb-6 print:overflow-visible"
    >
      <div className="flex items-baseline gap-3 pt-3">
        <h1 className="flex-1 text-xl font-semibold">{sheet.title}</h1>
        <a
          className="inline-flex items-center gap-1 underline underline-offset-2 print:hidden"
          href={nightSheetFile(plan.id, draft, date)}
          download
        >
          <Download size={14} aria-hidden /> PDF
        </a>
        <Button className="print:hidden" onClick={() => window.print()}>
          <Printer size={14} aria-hidden /> Print
        </Button>
      </div>
      <p className="text-ink-2">
        {plan.name}, {draft ? `the draft ${draft.name}` : "the adopted plan"} ({sheet.zone})
      </p>
      <p className="py-2 text-lg">
        <Verdict verdict={sheet.verdict} />. {sheet.headline}
      </p>
      <h2 className="pt-1 text-lg font-semibold">What runs, in order</h2>
      <div className="overflow-x-auto" tabIndex={0} role="region" aria-label="Runs of the night">
        <table className="w-full max-w-[110ch] text-left">
          <thead className="text-sm text-ink-2">
            <tr>
              {["Begins", "Ends", "Window to", "Job", "Kind"].map((title) => (
                <th key={title} scope="col" className="py-0.5 pr-4 font-medium">
                  {title}
                </th>
              ))}
              <th scope="col" className="py-0.5 pr-4 text-right font-medium">
                Machines
              </th>
              <th scope="col" className="py-0.5 font-medium">
                Expected
              </th>
            </tr>
          </thead>
          <tbody>
            {sheet.runs.map((run) => (
              <tr key={`${run.job} ${run.occurrence}`} className="border-t border-rule">
                <td className="num py-0.5 pr-4 whitespace-nowrap">{at(run.begins)}</td>
                <td className="num py-0.5 pr-4 whitespace-nowrap">{at(run.ends)}</td>
                <td className="num py-0.5 pr-4 whitespace-nowrap">{at(run.window_end)}</td>
                <td className="py-0.5 pr-4 font-medium">{run.name}</td>
                <td className="py-0.5 pr-4">{run.kind}</td>
                <td className="num py-0.5 pr-4 text-right">{run.machines}</td>
                <td
                  className={run.verdict === "over" ? "py-0.5 font-semibold text-barn" : "py-0.5"}
                >
                  {run.expected}
                </td>
              </tr>
            ))}
          </tbody>
        </table>
      </div>
      {sheet.held.length > 0 && <p className="pt-1">On hold: {sheet.held.join(", ")}.</p>}
      <h2 className="pt-4 text-lg font-semibold">What to check</h2>
      {sheet.checks.length === 0 && <p>Nothing speaks against this night.</p>}
      <ul className="max-w-[110ch]">
        {sheet.checks.map((check) => (
          <li key={check} className="flex gap-2 border-t border-rule py-0.5">
            <span aria-hidden className="mt-1 size-3 shrink-0 border border-ink" />
            {check}
          </li>
        ))}
      </ul>
      <h2 className="pt-4 text-lg font-semibold">Whom to call</h2>
      {sheet.contacts.length === 0 && (
        <p>Nobody is named. Names and telephones are set under Mail.</p>
      )}
      <ul>
        {sheet.contacts.map((contact) => (
          <li key={contact.name} className="border-t border-rule py-0.5">
            <strong>{contact.name}</strong>{" "}
            {[contact.phone, contact.mail].filter(Boolean).join(", ")}
            {contact.jobs.length > 0 && (
              <span className="text-ink-2">: {contact.jobs.join(", ")}</span>
            )}
          </li>
        ))}
      </ul>
    </article>
  );
}
