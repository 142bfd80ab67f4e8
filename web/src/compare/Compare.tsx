import { useQuery } from "@tanstack/react-query";
import { Printer } from "lucide-react";
import { useSearchParams } from "react-router";
import type { NightSummary } from "../api/client";
import { type Comparison, comparisonQuery } from "../api/versionQueries";
import { Silhouette } from "../ui/Silhouette";
import { useWorkbench } from "../workbench/store";
import { clock, dateWords, duration } from "../time/time";
import { Button } from "../ui/Button";
import { TableFiles } from "../ui/TableFiles";
import { Verdict } from "../ui/Verdict";
import { count, percent } from "../ui/words";

/** Two plans side by side: what is otherwise, and what that does to the week. A page to print. */
export function Compare() {
  const { plan, draft, date } = useWorkbench();
  const [search] = useSearchParams();
  const one = search.get("one") ?? "adopted";
  const other = search.get("other") ?? (draft ? `draft:${draft.id}` : "adopted");
  const open = (side: string) =>
    !side.startsWith("draft:") || plan.open_drafts.some((d) => side === `draft:${d.id}`);
  const closed = !open(one) || !open(other);
  const found = useQuery({
    ...comparisonQuery(plan, date, one, other, draft?.revision ?? null),
    enabled: !closed,
    placeholderData: (before) => before,
  });
  if (closed)
    return (
      <main className="flex-1 p-4" aria-label="Comparison">
        <p role="status">
          That draft is not open any more: it was adopted or discarded. Drafts are under Jobs.
        </p>
      </main>
    );
  if (found.error)
    return (
      <main className="flex-1 p-4" aria-label="Comparison">
        <p role="alert">{found.error.message}</p>
      </main>
    );
  if (!found.data)
    return (
      <main className="flex-1 p-4" aria-label="Comparison">
        <p role="status">Comparing two weeks …</p>
      </main>
    );
  const { changes, came, went, stayed } = found.data;
  return (
    <main
      className="min-h-0 flex-1 overflow-auto px-6 py-3 print:overflow-visible"
      aria-label="Comparison"
      tabIndex={0}
    >
      <div className="flex items-baseline gap-3">
        <h1 className="flex-1 text-xl font-semibold">
          {plan.name}: {found.data.other.name}, beside {found.data.one.name}
        </h1>
        <Button className="print:hidden" onClick={() => window.print()}>
          <Printer size={14} aria-hidden /> Print
        </Button>
      </div>
      <p className="text-ink-2">
        The week of {dateWords(found.data.one.nights[0]?.date ?? date).day}{" "}
        {dateWords(found.data.one.nights[0]?.date ?? date).month}{" "}
        <TableFiles
          of={`plans/${plan.id}/tables/compared-nights`}
          what="The nights of both"
          query={{ day: date, one, other }}
        />
      </p>
      <Nights found={found.data} zone={plan.time_zone} />
      <h2 className="flex items-baseline gap-3 pt-4 text-lg font-semibold">
        {count(changes.length, "change")}
        {changes.length > 0 && (
          <TableFiles
            of={`plans/${plan.id}/tables/comparison`}
            what="What differs"
            query={{ day: date, one, other }}
          />
        )}
      </h2>
      {!changes.length && <p>The two are the same.</p>}
      <ul aria-label="What differs">
        {changes.map((change) => (
          <li key={`${change.subject} ${change.id}`} className="border-t border-rule py-1.5">
            <p>
              <strong>
                {change.subject === "estate" ? "The estate" : `${change.subject} ${change.name}`}
              </strong>{" "}
              {change.kind !== "changed" && (
                <span className={change.kind === "gone" ? "text-barn" : "text-ink-2"}>
                  {change.kind}
                </span>
              )}
            </p>
            {change.lines.map((line) => (
              <p key={line} className="max-w-[110ch] pl-4">
                {line}
              </p>
            ))}
          </li>
        ))}
      </ul>
      <div className="grid grid-cols-2 gap-6 pt-4">
        <FindingList title={`${count(went.length, "finding")} gone`} findings={went} />
        <FindingList title={`${count(came.length, "finding")} new`} findings={came} />
      </div>
      <p className="pt-2 text-ink-2">{count(stayed, "finding")} the same in both.</p>
    </main>
  );
}

function FindingList({ title, findings }: { title: string; findings: Comparison["came"] }) {
  return (
    <section aria-label={title}>
      <h2 className="text-lg font-semibold">{title}</h2>
      <ul>
        {findings.map((f) => (
          <li key={f.key} className="border-t border-rule py-1">
            <span className="font-medium">{f.what}</span>{" "}
            <span className="text-ink-2">{f.why}</span>
          </li>
        ))}
      </ul>
    </section>
  );
}

function Nights({ found, zone }: { found: Comparison; zone: string }) {
  const said = (night: NightSummary | undefined) => {
    if (!night?.forecast) return <span className="text-ink-2">no forecast</span>;
    const tight = night.tightest;
    return (
      <>
        <Verdict verdict={night.verdict} />{" "}
        {night.last_end && `ends ${clock(night.last_end, zone)}`}
        <span className="block text-ink-2">
          {night.over_s > 0 ? `${duration(night.over_s)} late` : "inside its windows"}
          {night.missed > 0 && `, ${night.missed} not backed up`}
          {tight?.capacity ? `, ${tight.label} ${percent(tight.peak / tight.capacity)}` : ""}
        </span>
      </>
    );
  };
  return (
    <table className="mt-2 w-full text-sm">
      <caption className="sr-only">Nights before and after</caption>
      <thead>
        <tr className="border-b border-rule-strong text-left text-ink-2">
          <th scope="col" className="py-1 font-medium">
            Night
          </th>
          <th scope="col" className="font-medium">
            {found.one.name}
          </th>
          <th scope="col" className="font-medium">
            {found.other.name}
          </th>
          <th scope="col" className="font-medium">
            Load, before as a thin line
          </th>
        </tr>
      </thead>
      <tbody>
        {found.other.nights.map((night, i) => {
          const was = found.one.nights[i];
          return (
            <tr key={night.date} className="border-b border-rule align-top">
              <th scope="row" className="py-1 text-left font-medium">
                {dateWords(night.date).short} {dateWords(night.date).day}
              </th>
              <td className="py-1">{said(was)}</td>
              <td className="py-1">{said(night)}</td>
              <td className="w-40 py-1">
                <Silhouette night={night} before={was} />
              </td>
            </tr>
          );
        })}
      </tbody>
    </table>
  );
}
