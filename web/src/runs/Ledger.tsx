import { useInfiniteQuery } from "@tanstack/react-query";
import { Download } from "lucide-react";
import { clsx } from "clsx";
import { type LedgerFilter, type LedgerLine, ledgerPage } from "../api/runQueries";
import { clock, dateClock, duration, millis } from "../time/time";
import { Button } from "../ui/Button";
import { Choice } from "../ui/Choice";
import { Field } from "../ui/Field";
import { bytes, count } from "../ui/words";

const OUTCOMES = ["done", "failed", "cut off", "missed", "no path"];

/** Machine-runs, the newest first; its filters are in the address. */
export function Ledger(props: {
  plan: number;
  zone: string;
  jobs: readonly { id: string; name: string }[];
  filter: LedgerFilter;
  onFilter: (filter: LedgerFilter) => void;
}) {
  const { plan, zone, jobs, filter, onFilter } = props;
  const found = useInfiniteQuery({
    queryKey: ["plan", plan, "ledger", filter],
    queryFn: ({ pageParam }) => ledgerPage(plan, filter, pageParam),
    initialPageParam: null as string | null,
    getNextPageParam: (page) => page.before,
    placeholderData: (before) => before,
  });
  const lines = found.data?.pages.flatMap((page) => page.lines) ?? [];
  const names = new Map(jobs.map((job) => [job.id, job.name]));
  const query = new URLSearchParams(
    Object.entries(filter).filter((entry): entry is [string, string] => Boolean(entry[1])),
  ).toString();
  const file = (kind: string) => `/api/v1/plans/${plan}/ledger.${kind}${query && `?${query}`}`;
  return (
    <section aria-label="Ledger" tabIndex={0} className="min-h-0 flex-1 overflow-y-auto px-4 pb-4">
      <h1 className="sr-only">Ledger</h1>
      <div className="flex flex-wrap items-end gap-3 py-2">
        <Choice
          lead="Job"
          value={filter.job ?? ""}
          options={[
            { value: "", label: "all" },
            ...jobs.map((job) => ({ value: job.id, label: job.name })),
          ]}
          onChange={(job) => onFilter({ ...filter, job: job || null })}
        />
        <Choice
          lead="Outcome"
          value={filter.outcome ?? ""}
          options={[
            { value: "", label: "all" },
            ...OUTCOMES.map((each) => ({ value: each, label: each })),
          ]}
          onChange={(outcome) => onFilter({ ...filter, outcome: outcome || null })}
        />
        <div className="w-52">
          <Field
            label="Machine"
            placeholder="all"
            defaultValue={filter.machine ?? ""}
            onBlur={(event) => onFilter({ ...filter, machine: event.target.value || null })}
            onKeyDown={(event) => {
              if (event.key === "Enter")
                onFilter({ ...filter, machine: event.currentTarget.value || null });
            }}
          />
        </div>
        {(["from", "to"] as const).map((key) => (
          <label key={key} className="text-sm text-ink-2">
            {key === "from" ? "From night" : "To night"}
            <input
              type="date"
              className="ml-1.5 h-7 border border-rule-strong bg-surface px-1 text-ink"
              value={filter[key] ?? ""}
              onChange={(event) => onFilter({ ...filter, [key]: event.target.value || null })}
            />
          </label>
        ))}
        <span className="flex-1" />
        <a className="inline-flex items-center gap-1 underline" href={file("csv")} download>
          <Download size={14} aria-hidden /> CSV
        </a>
        <a className="inline-flex items-center gap-1 underline" href={file("xlsx")} download>
          <Download size={14} aria-hidden /> XLSX
        </a>
        <a className="inline-flex items-center gap-1 underline" href={file("jsonl")} download>
          <Download size={14} aria-hidden /> JSON lines
        </a>
      </div>
      {found.error && <p role="alert">{found.error.message}</p>}
      {found.isPending && <p role="status">Reading the ledger …</p>}
      {found.data && !lines.length && <p>No run fits these filters.</p>}
      {lines.length > 0 && (
        <table role="table" className="reflows w-full border-collapse text-sm">
          <caption className="sr-only">Machine-runs, the newest first</caption>
          <thead className="sticky top-0 bg-ground text-left text-ink-2">
            <tr>
              {["Due", "Machine", "Job", "Outcome", "Kind", "Started", "Took", "Predicted"].map(
                (head) => (
                  <th key={head} scope="col" className="border-b border-rule-strong px-2 py-1">
                    {head}
                  </th>
                ),
              )}
              <th scope="col" className="border-b border-rule-strong px-2 py-1 text-right">
                Read
              </th>
              <th scope="col" className="border-b border-rule-strong px-2 py-1 text-right">
                Predicted
              </th>
            </tr>
          </thead>
          <tbody>
            {lines.map((line) => (
              <Line
                key={`${line.job} ${line.occurrence} ${line.machine}`}
                line={line}
                zone={zone}
                name={names.get(line.job) ?? line.job}
              />
            ))}
          </tbody>
        </table>
      )}
      {found.hasNextPage && (
        <div className="py-2">
          <Button onClick={() => void found.fetchNextPage()} disabled={found.isFetchingNextPage}>
            Show more
          </Button>{" "}
          <span className="text-ink-2">{count(lines.length, "line")} shown</span>
        </div>
      )}
    </section>
  );
}

const took = (from: string | null, to: string | null) =>
  from && to ? duration((millis(to) - millis(from)) / 1000) : "–";

function Line({ line, zone, name }: { line: LedgerLine; zone: string; name: string }) {
  const bad = line.outcome !== null && line.outcome !== "done";
  return (
    <tr className="border-b border-rule" title={line.reason || undefined}>
      <td data-label="Due" className="px-2 py-0.5 whitespace-nowrap">
        {dateClock(line.occurrence, zone)}
      </td>
      <td data-label="Machine" className="px-2 font-medium">
        {line.machine}
      </td>
      <td data-label="Job" className="px-2">
        {name}
      </td>
      <td data-label="Outcome" className={clsx("px-2", bad && "font-semibold text-barn")}>
        {line.outcome ?? "under way"}
        {line.reason && <span className="font-normal">: {line.reason}</span>}
      </td>
      <td data-label="Kind" className="px-2">
        {line.kind}
      </td>
      <td data-label="Started" className="px-2 whitespace-nowrap">
        {line.start ? clock(line.start, zone) : "–"}
      </td>
      <td data-label="Took" className="px-2 whitespace-nowrap">
        {took(line.start, line.ended)}
      </td>
      <td data-label="Predicted" className="px-2 whitespace-nowrap text-ink-2">
        {took(line.predicted_start, line.predicted_ended)}
      </td>
      <td data-label="Read" className="px-2 text-right whitespace-nowrap">
        {bytes(line.source_bytes)}
      </td>
      <td data-label="Predicted" className="px-2 text-right whitespace-nowrap text-ink-2">
        {line.predicted_bytes === null ? "–" : bytes(line.predicted_bytes)}
      </td>
    </tr>
  );
}
