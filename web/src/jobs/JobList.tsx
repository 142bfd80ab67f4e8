import { TableFiles } from "../ui/TableFiles";
import { useQuery } from "@tanstack/react-query";
import { Lock, Pause } from "lucide-react";
import { useMemo, useState } from "react";
import { useAddress } from "../workbench/address";
import { useWorkbench } from "../workbench/store";
import { Button } from "../ui/Button";
import { Choice } from "../ui/Choice";
import { Table } from "../ui/Table";
import { Verdict } from "../ui/Verdict";
import { count, gib } from "../ui/words";
import { BulkSheet } from "./BulkSheet";
import { NightMarks } from "./NightCells";
import { type JobNight, type JobRow, jobsQuery, jobWeeksQuery } from "../api/jobQueries";

const SORTS = ["plan", "name", "machines", "size", "priority"] as const;
type Sort = (typeof SORTS)[number];
type Row = JobRow & { nights: JobNight[] };
const grade = (row: Row) =>
  row.nights.some((n) => n.verdict === "over")
    ? "over"
    : row.nights.some((n) => n.verdict === "tight")
      ? "tight"
      : row.nights.some((n) => n.runs)
        ? "fits"
        : null;

/**
 * All jobs with what they take, when they run and how their week goes; several are edited at once.
 */
export function JobList({ onOpen }: { onOpen: (job: string) => void }) {
  const { plan, draft, date } = useWorkbench();
  const { search, set } = useAddress();
  const q = search.get("q") ?? "";
  const sort = (SORTS as readonly string[]).includes(search.get("sort") ?? "")
    ? (search.get("sort") as Sort)
    : "plan";
  const jobs = useQuery({
    ...jobsQuery(plan, draft, q, sort),
    placeholderData: (before) => before,
  });
  const weeks = useQuery({
    ...jobWeeksQuery(plan, draft, date),
    placeholderData: (before) => before,
  });
  const [ticked, setTicked] = useState<ReadonlySet<string>>(new Set());
  const [editing, setEditing] = useState(false);
  const rows = useMemo(() => {
    const of = new Map(weeks.data?.jobs.map((w) => [w.job, w.nights]));
    return (jobs.data?.jobs ?? []).map((row): Row => ({ ...row, nights: of.get(row.id) ?? [] }));
  }, [jobs.data, weeks.data]);
  const columns = useMemo(() => {
    const right = { right: true };
    type Cell = { row: { original: Row } };
    const tick = (id: string, on: boolean) =>
      setTicked((now) => {
        const next = new Set(now);
        if (on) next.add(id);
        else next.delete(id);
        return next;
      });
    return [
      {
        id: "tick",
        header: "Tick",
        accessorFn: (r: Row) => (ticked.has(r.id) ? 0 : 1),
        cell: (c: Cell) => (
          <input
            type="checkbox"
            className="block"
            aria-label={`Tick ${c.row.original.name}`}
            checked={ticked.has(c.row.original.id)}
            onClick={(e) => e.stopPropagation()}
            onChange={(e) => tick(c.row.original.id, e.target.checked)}
          />
        ),
      },
      {
        header: "Job",
        accessorFn: (r: Row) => r.name,
        cell: (c: Cell) => (
          <span className="flex items-center gap-1.5">
            <button
              type="button"
              className="text-left font-medium underline decoration-rule-strong underline-offset-2"
              onClick={(e) => {
                e.stopPropagation();
                onOpen(c.row.original.id);
              }}
            >
              {c.row.original.name}
            </button>
            {c.row.original.locked && <Lock size={12} aria-label="locked" />}
            {c.row.original.on_hold && <Pause size={12} aria-label="on hold" />}
          </span>
        ),
      },
      { header: "Priority", accessorFn: (r: Row) => r.priority, meta: right },
      {
        header: "Machines",
        accessorFn: (r: Row) => r.machines,
        cell: (c: Cell) => <span title={c.row.original.selects}>{c.row.original.machines}</span>,
        meta: right,
      },
      {
        header: "Used",
        accessorFn: (r: Row) => r.used_gib,
        cell: (c: Cell) => gib(c.row.original.used_gib),
        meta: right,
      },
      {
        header: "Runs",
        accessorFn: (r: Row) => r.runs,
        cell: (c: Cell) => (
          <span
            className="line-clamp-2 min-w-44 narrow:line-clamp-none narrow:min-w-0"
            title={c.row.original.runs}
          >
            {c.row.original.runs}
          </span>
        ),
      },
      {
        header: "To",
        accessorFn: (r: Row) => r.repositories.join(", "),
        cell: (c: Cell) => (
          <span className="whitespace-nowrap">{c.row.original.repositories.join(", ")}</span>
        ),
      },
      { header: "Kept", accessorFn: (r: Row) => r.kept },
      {
        header: "Week",
        accessorFn: (r: Row) => ["over", "tight", "fits"].indexOf(grade(r) ?? "fits"),
        cell: (c: Cell) => (
          <span className="flex items-center gap-2 whitespace-nowrap">
            <NightMarks nights={c.row.original.nights} />
            {c.row.original.nights.length > 0 &&
              (grade(c.row.original) ? (
                <Verdict verdict={grade(c.row.original)} />
              ) : (
                <span className="text-ink-2">rests</span>
              ))}
          </span>
        ),
      },
    ];
  }, [onOpen, ticked]);
  const chosen = rows.filter((row) => ticked.has(row.id));
  return (
    <>
      <div className="flex items-center gap-2 px-4 pb-1 narrow:flex-wrap">
        <input
          type="search"
          aria-label="Find jobs"
          placeholder="Find jobs by name"
          value={q}
          onChange={(event) => set({ q: event.target.value || null })}
          className="h-7 w-56 rounded-[3px] border border-rule-strong bg-raised px-2"
        />
        <Choice
          lead="Order"
          value={sort}
          options={SORTS.map((s) => ({ value: s, label: s === "plan" ? "as in the plan" : s }))}
          onChange={(v) => set({ sort: v === "plan" ? null : v })}
        />
        <p role="status" className="flex-1 text-ink-2">
          {jobs.data ? count(jobs.data.total, "job") : "Reading the jobs …"}{" "}
          <TableFiles
            of={`plans/${plan.id}/tables/jobs`}
            what="Jobs"
            query={{ draft: draft?.id, q, sort }}
          />
        </p>
        {chosen.length > 0 && (
          <>
            <span>{count(chosen.length, "job")} ticked</span>
            <Button onClick={() => setEditing(true)}>Edit them together</Button>
            <Button look="plain" onClick={() => setTicked(new Set())}>
              Untick
            </Button>
          </>
        )}
      </div>
      <div className="flex min-h-0 flex-1 narrow:flex-col">
        <div
          className="min-h-0 flex-1 overflow-auto px-2"
          tabIndex={0}
          role="region"
          aria-label="List of jobs"
        >
          {jobs.error && (
            <p role="alert" className="px-2">
              {jobs.error.message}
            </p>
          )}
          {jobs.data?.total === 0 && (
            <p className="p-4">
              {q
                ? "No job has that name."
                : "A job says what is backed up, where to, when and how long it is kept. “New job” makes the first one."}
            </p>
          )}
          {rows.length > 0 && (
            <Table
              caption="Jobs of the plan"
              rows={rows}
              columns={columns}
              idOf={(row) => row.id}
              onChoose={(row) => onOpen(row.id)}
            />
          )}
        </div>
        {editing && chosen.length > 0 && (
          <BulkSheet
            jobs={chosen}
            onClose={() => setEditing(false)}
            onDone={() => {
              setEditing(false);
              setTicked(new Set());
            }}
          />
        )}
      </div>
    </>
  );
}
