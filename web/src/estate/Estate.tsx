import { Allowed } from "../workbench/Allowed";
import { TableFiles } from "../ui/TableFiles";
import { useQuery, useQueryClient } from "@tanstack/react-query";
import { Search } from "lucide-react";
import { useCallback, useState } from "react";
import { useAddress } from "../workbench/address";
import { useEscape, useKeys } from "../workbench/keys";
import { useWorkbench } from "../workbench/store";
import { longDate, mondayOf } from "../time/time";
import { Button } from "../ui/Button";
import { Choice, Choices } from "../ui/Choice";
import { count } from "../ui/words";
import { ChangesSheet } from "./ChangesSheet";
import { MarkedSheet } from "./MarkedSheet";
import { FactsSheet } from "./FactsSheet";
import { ImportSheet } from "./ImportSheet";
import { InboxSheet } from "./InboxSheet";
import { MachineSheet } from "./MachineSheet";
import { COLUMNS, FIRST_COLUMNS, MachineTable } from "./MachineTable";
import {
  asQuery,
  exposureQuery,
  inboxQuery,
  type MachinePage,
  pageQuery,
  type Shown,
  sourcesQuery,
  type MachineEntry,
  PAGE,
} from "../api/estateQueries";
import { SourcesSheet } from "./SourcesSheet";
import { COVERAGE_MARKS, since } from "./words";

const GROUPS = [
  "none",
  "coverage",
  "folder",
  "host",
  "cluster",
  "site",
  "tag",
  "role",
  "owner",
  "source",
  "kind",
];

/** Machines that are marked by one click are read from the server a page at a time. */
const MOST_MARKED = 5000;

/** What is shown, kept in the address so that it can be saved as a bookmark and sent to others. */
function useShown() {
  const { search, set } = useAddress();
  const shown: Shown = {
    search: search.get("find") ?? "",
    coverage: search.getAll("coverage"),
    where: search.getAll("where"),
    hazards: search.get("hazards") === "yes",
    group: search.get("group") ?? "none",
    sort: search.get("sort") ?? "coverage",
    descending: search.get("order") === "down",
    asOf: search.get("as_of") ? Number(search.get("as_of")) : null,
  };
  return { shown, set, search };
}

/** The estate: one table that says first what is not protected, and since when. */
export function Estate() {
  const { plan, draft, date } = useWorkbench();
  const { shown, set, search } = useShown();
  const [typed, setTyped] = useState(shown.search);
  const [marked, setMarked] = useState<ReadonlyMap<string, readonly string[]>>(new Map());
  const client = useQueryClient();
  const first = useQuery({
    ...pageQuery(plan, draft, shown, 0),
    placeholderData: (before) => before,
  });
  const worst = useQuery(exposureQuery(plan.id, mondayOf(date)));
  const inbox = useQuery(inboxQuery(plan.id));
  const waiting = inbox.data?.total ?? 0;
  const sources = useQuery(sourcesQuery(plan.id));
  const page = first.data;
  const panel = search.get("panel");
  const machine = search.get("machine");
  const columns = search.get("columns")?.split(",") ?? FIRST_COLUMNS;
  const show = (name: string | null) => set({ panel: name, machine: null });
  const close = useCallback(() => set({ panel: null, machine: null }), [set]);
  const on = page?.as_of.slice(0, 10) ?? date;

  const find = (event: KeyboardEvent) => {
    if ((event.target as HTMLElement).closest("[role=menu], [role=dialog], input, textarea"))
      return;
    event.preventDefault();
    document.querySelector<HTMLElement>("[data-find]")?.focus();
  };
  useKeys({ "/": find, "Shift+/": find });
  useEscape(close);

  const mark = useCallback(
    (row: MachineEntry, add: boolean) =>
      setMarked((before) => {
        const now = new Map(before);
        if (add) now.set(row.name, row.jobs);
        else now.delete(row.name);
        return now;
      }),
    [],
  );
  const markAll = async () => {
    const pages = Math.ceil((page?.total ?? 0) / PAGE);
    const found = await Promise.all(
      Array.from({ length: pages }, (_, i) => client.fetchQuery(pageQuery(plan, draft, shown, i))),
    );
    setMarked(new Map(found.flatMap((each) => each.rows.map((row) => [row.name, row.jobs]))));
  };
  const done = (what: string) => {
    setMarked(new Map());
    if (new URLSearchParams(window.location.search).get("panel") === what) close();
  };
  const csv = new URLSearchParams();
  for (const [key, value] of Object.entries(asQuery(shown, draft?.id ?? null)))
    for (const each of Array.isArray(value) ? value : [value]) csv.append(key, String(each));

  const read =
    sources.data?.sources.filter((s) => s.last_discovery?.state === "running").length ?? 0;
  const faulty =
    sources.data?.sources.filter((s) => ["fails", "works for most"].includes(s.access)).length ?? 0;
  return (
    <div className="flex min-h-0 flex-1 narrow:flex-col">
      <main className="flex min-w-0 flex-1 flex-col" aria-label="Estate">
        <div className="flex items-center gap-2 px-4 pt-2 narrow:flex-wrap">
          <h1 className="text-xl font-semibold whitespace-nowrap">Estate</h1>
          <p
            className="min-w-0 flex-1 truncate pl-2 text-base narrow:basis-3/4 narrow:whitespace-normal"
            role="status"
          >
            {page ? <Answer page={page} on={on} /> : "Reading the estate …"}
          </p>
          <Button
            look={inbox.data?.total ? "outlined" : "plain"}
            aria-pressed={panel === "inbox"}
            onClick={() => show(panel === "inbox" ? null : "inbox")}
          >
            Inbox {inbox.data && <strong>{inbox.data.total}</strong>}
          </Button>
          <Button
            look="plain"
            aria-pressed={panel === "sources"}
            onClick={() => show(panel === "sources" ? null : "sources")}
          >
            {sources.data ? count(sources.data.sources.length, "source") : "Sources"}
            {read > 0 && <span className="text-ink-2">reading {read}</span>}
            {faulty > 0 && <span className="text-hay-text">{faulty} with trouble</span>}
          </Button>
          <Button
            look="plain"
            aria-pressed={panel === "changes"}
            onClick={() => show(panel === "changes" ? null : "changes")}
          >
            Changes
          </Button>
          <Allowed>
            <Button
              look="plain"
              aria-pressed={panel === "import"}
              onClick={() => show(panel === "import" ? null : "import")}
            >
              Import
            </Button>
          </Allowed>
        </div>
        <div className="flex flex-wrap items-center gap-x-2 gap-y-1 px-4 pt-1 pb-2">
          {page?.coverage
            .filter((sum) => sum.machines > 0)
            .map((sum) => {
              const pressed = shown.coverage.includes(sum.state);
              const { mark: sign, tone } = COVERAGE_MARKS[sum.state] ?? { mark: "", tone: "" };
              return (
                <button
                  key={sum.state}
                  type="button"
                  aria-pressed={pressed}
                  onClick={() =>
                    set({
                      coverage: pressed
                        ? shown.coverage.filter((s) => s !== sum.state)
                        : [...shown.coverage, sum.state],
                    })
                  }
                  className="inline-flex h-6 items-center gap-1 rounded-[3px] px-1.5 hover:bg-closed aria-pressed:bg-closed aria-pressed:outline aria-pressed:outline-rule-strong"
                >
                  <span className={tone}>
                    <span aria-hidden>{sign}</span> {sum.machines}
                  </span>
                  {sum.state}
                </button>
              );
            })}
          <button
            type="button"
            aria-pressed={shown.hazards}
            onClick={() => set({ hazards: shown.hazards ? null : "yes" })}
            className="inline-flex h-6 items-center rounded-[3px] px-1.5 hover:bg-closed aria-pressed:bg-closed aria-pressed:outline aria-pressed:outline-rule-strong"
          >
            with hazards
          </button>
          {shown.where.map((pair) => (
            <Button
              small
              key={pair}
              look="outlined"
              onClick={() => set({ where: shown.where.filter((w) => w !== pair) })}
            >
              {pair.replace(":", " ")} <span aria-hidden>×</span>
              <span className="sr-only">take this filter away</span>
            </Button>
          ))}
          <label className="ml-auto flex min-w-16 flex-1 items-center justify-end gap-1">
            <Search size={14} aria-hidden />
            <span className="sr-only">Find machines</span>
            <input
              data-find
              type="search"
              placeholder="name, folder, tag, host, role, owner"
              value={typed}
              onChange={(event) => {
                setTyped(event.target.value);
                set({ find: event.target.value || null });
              }}
              className="h-6 w-44 min-w-12 rounded-[3px] border border-rule-strong bg-surface px-1.5"
            />
          </label>
          <Choice
            lead="Grouped by"
            value={shown.group}
            options={GROUPS.map((value) => ({
              value,
              label: value === "none" ? "nothing" : value,
            }))}
            onChange={(group) => set({ group: group === "none" ? null : group })}
          />
          <Choices
            lead="Columns"
            said={String(columns.length)}
            values={columns}
            options={COLUMNS.filter((c) => c.id !== "name").map((c) => ({
              value: c.id,
              label: c.title,
            }))}
            onChange={(chosen) =>
              set({ columns: ["name", ...chosen.filter((c) => c !== "name")].join(",") })
            }
          />
          <TableFiles
            of={`plans/${plan.id}/estate`}
            what="What is shown,"
            query={Object.fromEntries(csv)}
          />
        </div>
        {shown.asOf !== null && (
          <p
            role="status"
            className="flex items-center gap-3 border-y border-rule bg-closed px-4 py-1"
          >
            This is the estate of an earlier day. Nothing here changes the plan.
            <Button small onClick={() => set({ as_of: null })}>
              Back to today
            </Button>
          </p>
        )}
        {marked.size > 0 && (
          <p className="flex items-center gap-3 border-y border-rule bg-surface px-4 py-1">
            <strong>{count(marked.size, "machine")} marked</strong>
            <Button small onClick={() => show("facts")}>
              Edit facts
            </Button>
            <Button small onClick={() => show("marked")}>
              Into a job, or left out …
            </Button>
            {page && marked.size < page.total && page.total <= MOST_MARKED && (
              <Button small look="plain" onClick={() => void markAll()}>
                Mark all {page.total} shown
              </Button>
            )}
            <Button small look="plain" onClick={() => setMarked(new Map())}>
              Unmark
            </Button>
          </p>
        )}
        {first.error && (
          <p role="alert" className="px-4 py-2">
            {first.error.message}
          </p>
        )}
        {page && page.all === 0 ? (
          <p className="px-4 py-6">
            {waiting > 0
              ? `${count(waiting, "difference")} ${waiting === 1 ? "waits" : "wait"} in the inbox above: what you take of them is the estate.`
              : "Sources ask hypervisors and agents what there is; an import brings it in files. Both stand above."}
          </p>
        ) : page && page.total === 0 ? (
          <p className="px-4 py-6">
            No machine fits this filter.{" "}
            <Button
              onClick={() => {
                setTyped("");
                set({ find: null, coverage: null, where: null, hazards: null });
              }}
            >
              Show all {page.all}
            </Button>
          </p>
        ) : (
          page && (
            <MachineTable
              shown={shown}
              total={page.total}
              groups={page.groups}
              columns={columns}
              worst={worst.data?.worst_s}
              back={worst.data?.restore_s}
              on={on}
              chosen={machine}
              marked={marked}
              onMark={mark}
              onSort={(sort) =>
                set({ sort, order: shown.sort === sort && !shown.descending ? "down" : null })
              }
              onOpen={(name) => set({ machine: name, panel: null })}
            />
          )
        )}
      </main>
      {machine && (
        <MachineSheet
          key={machine}
          name={machine}
          on={on}
          onClose={close}
          onFilter={(pair) => set({ where: [...new Set([...shown.where, pair])] })}
        />
      )}
      {panel === "inbox" && <InboxSheet onClose={close} />}
      {panel === "sources" && <SourcesSheet onClose={close} />}
      {panel === "changes" && (
        <ChangesSheet onClose={close} onView={(version) => set({ as_of: String(version) })} />
      )}
      {panel === "import" && <ImportSheet onClose={close} />}
      {panel === "facts" && (
        <FactsSheet machines={[...marked.keys()]} onClose={close} onDone={() => done("facts")} />
      )}
      {panel === "marked" && (
        <MarkedSheet
          machines={[...marked.keys()]}
          jobsOf={(name) => marked.get(name) ?? []}
          onClose={close}
          onDone={() => done("marked")}
        />
      )}
    </div>
  );
}

/** The question that the view is for, answered in a sentence. */
function Answer({ page, on }: { page: MachinePage; on: string }) {
  const of = (state: string) => page.coverage.find((sum) => sum.state === state);
  const bare = of("not protected");
  const stale = of("stale");
  const review = page.to_review.length;
  return (
    <>
      {bare?.machines ? (
        <strong className="text-barn">
          {count(bare.machines, "machine")} {bare.machines === 1 ? "is" : "are"} not protected
        </strong>
      ) : page.all === 0 ? (
        "No machines yet"
      ) : (
        "Every machine is protected"
      )}
      {bare?.since &&
        (bare.since === on
          ? ", since today"
          : `, the longest since ${longDate(bare.since)} (${since(bare.since, on)})`)}
      {stale && stale.machines > 0 && (
        <span className="text-hay-text">; {stale.machines} stale</span>
      )}
      {review > 0 &&
        `; ${review} left out on purpose ${review === 1 ? "is" : "are"} due for review`}
    </>
  );
}
