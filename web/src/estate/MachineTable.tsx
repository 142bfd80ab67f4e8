import { useQueries } from "@tanstack/react-query";
import { useVirtualizer } from "@tanstack/react-virtual";
import { clsx } from "clsx";
import { ArrowDown, ArrowUp, ChevronDown, ChevronRight } from "lucide-react";
import {
  type CSSProperties,
  type KeyboardEvent,
  memo,
  type ReactNode,
  useEffect,
  useMemo,
  useRef,
  useState,
} from "react";
import { useNarrow } from "../ui/narrow";
import { useWorkbench } from "../workbench/store";
import { dayClock, duration, longDate } from "../time/time";
import { count, gib, percent } from "../ui/words";
import { type Group, type MachineEntry, PAGE, pageQuery, type Shown } from "../api/estateQueries";
import { COVERAGE_MARKS, HAZARDS, since } from "./words";

export interface Column {
  id: string;
  title: string;
  /** Least width in pixels, and the share of what is left over. */
  width: number;
  grows?: number;
  sort?: string;
  right?: boolean;
  cell: (
    row: MachineEntry,
    more: {
      worst: number | null | undefined;
      back: number | null | undefined;
      on: string;
      zone: string;
    },
  ) => ReactNode;
}

/** Used within provisioned, as one bar; its length is the share of the largest machines' size. */
function SizeBar({ row }: { row: MachineEntry }) {
  // A square root keeps small machines visible beside those a hundred times as large.
  const wide = Math.min(1, Math.sqrt(row.provisioned_gib / 8000));
  const used = row.provisioned_gib ? row.used_gib / row.provisioned_gib : 0;
  return (
    <span
      className="flex items-center gap-2"
      title={`${gib(row.used_gib)} used of ${gib(row.provisioned_gib)} provisioned`}
    >
      <span aria-hidden className="relative block h-2 w-20 shrink-0 narrow:w-10">
        <span
          className="absolute inset-y-0 left-0 border border-rule-strong"
          style={{ width: `${wide * 100}%` }}
        />
        <span
          className="absolute inset-y-0 left-0 bg-slate"
          style={{ width: `${wide * used * 100}%` }}
        />
      </span>
      <span className="whitespace-nowrap">
        {gib(row.used_gib)} <span className="text-ink-2">of {gib(row.provisioned_gib)}</span>
      </span>
    </span>
  );
}

function CoverageCell({ row, on }: { row: MachineEntry; on: string }) {
  const { mark, tone } = COVERAGE_MARKS[row.coverage] ?? { mark: "", tone: "" };
  const said =
    row.coverage === "not protected" || (row.coverage === "stale" && row.since)
      ? row.since
        ? `since ${longDate(row.since)}`
        : "nobody knows since when"
      : row.coverage === "left out" || row.coverage === "gone"
        ? row.coverage_words
        : "";
  return (
    <span
      className="block truncate"
      title={[row.coverage_words, row.since && since(row.since, on)].filter(Boolean).join("; ")}
    >
      <span className={tone}>
        <span aria-hidden className="inline-block w-4">
          {mark}
        </span>
        {row.coverage}
      </span>
      {said && <span className="text-ink-2"> {said}</span>}
    </span>
  );
}

export const COLUMNS: Column[] = [
  {
    id: "name",
    title: "Machine",
    width: 138,
    grows: 1,
    sort: "name",
    cell: (r) => <span className="font-medium">{r.name}</span>,
  },
  {
    id: "coverage",
    title: "Protected",
    width: 232,
    grows: 1,
    sort: "coverage",
    cell: (r, m) => <CoverageCell row={r} on={m.on} />,
  },
  {
    id: "jobs",
    title: "By",
    width: 124,
    grows: 1,
    sort: "jobs",
    cell: (r) => r.jobs.join(", ") || "–",
  },
  {
    id: "size",
    title: "Used of provisioned",
    width: 222,
    sort: "used",
    cell: (r) => <SizeBar row={r} />,
  },
  {
    id: "change",
    title: "Change a day",
    width: 100,
    sort: "change",
    right: true,
    cell: (r) => <Change row={r} />,
  },
  {
    id: "where",
    title: "Runs on",
    width: 104,
    grows: 0.5,
    sort: "host",
    cell: (r) => r.host ?? `${r.site}, physical`,
  },
  {
    id: "worst",
    title: "Worst exposure",
    width: 118,
    right: true,
    cell: (r, m) => <Worst row={r} worst={m.worst} />,
  },
  {
    id: "back",
    title: "Whole in",
    width: 92,
    right: true,
    cell: (r, m) => <Back row={r} seconds={m.back} />,
  },
  {
    id: "hazards",
    title: "Hazards",
    width: 96,
    grows: 0.7,
    sort: "hazards",
    cell: (r) => <Hazards row={r} />,
  },
  {
    id: "newest",
    title: "Newest point",
    width: 106,
    sort: "newest",
    right: true,
    cell: (r, m) => (r.newest ? dayClock(r.newest, m.zone) : "–"),
  },
  {
    id: "folder",
    title: "Folder",
    width: 84,
    grows: 0.4,
    sort: "folder",
    cell: (r) => r.folder || "–",
  },
  { id: "tags", title: "Tags", width: 150, grows: 1, cell: (r) => r.tags.join(", ") },
  { id: "role", title: "Role", width: 84, cell: (r) => r.role || "–" },
  {
    id: "growth",
    title: "Growth a year",
    width: 104,
    sort: "growth",
    right: true,
    cell: (r) => percent(r.growth_per_year),
  },
  {
    id: "compress",
    title: "Compresses",
    width: 92,
    right: true,
    cell: (r) => `${r.compress_ratio} : 1`,
  },
  { id: "source", title: "Source", width: 92, cell: (r) => r.source ?? "–" },
];
export const FIRST_COLUMNS = [
  "name",
  "coverage",
  "jobs",
  "size",
  "change",
  "where",
  "worst",
  "back",
  "hazards",
];

function Change({ row }: { row: MachineEntry }) {
  const stated = row.overridden.includes("daily_change");
  return (
    <span title={`${gib(row.used_gib * row.daily_change)} a day`}>
      {(row.daily_change * 100).toFixed(1)} %{stated && <span title="stated by a planner"> ✎</span>}
    </span>
  );
}

function Worst({ row, worst }: { row: MachineEntry; worst: number | null | undefined }) {
  if (worst === undefined) return <span className="text-ink-2">…</span>;
  if (worst === null) return <span className="text-barn">no point</span>;
  const missed = row.rpo_hours !== null && worst > row.rpo_hours * 3600;
  const said = worst > 14 * 86400 ? `${Math.round(worst / 86400)} days` : duration(worst);
  return missed ? (
    <strong className="text-hay-text" title={`its RPO is ${row.rpo_hours} h`}>
      {said}
    </strong>
  ) : (
    <>{said}</>
  );
}

/** How long it takes until it is whole from its newest point, restored alone as the week ends. */
function Back({ row, seconds }: { row: MachineEntry; seconds: number | null | undefined }) {
  if (seconds === undefined) return <span className="text-ink-2">…</span>;
  if (seconds === null) return <>–</>;
  const said = duration(seconds);
  return row.rto_hours !== null && seconds > row.rto_hours * 3600 ? (
    <strong className="text-hay-text" title={`its RTO is ${row.rto_hours} h`}>
      {said}
    </strong>
  ) : (
    <>{said}</>
  );
}

function Hazards({ row }: { row: MachineEntry }) {
  if (!row.hazards.length) return <>–</>;
  return (
    <span className="text-hay-text" title={row.hazards.map((h) => h.words).join("\n")}>
      {[...new Set(row.hazards.map((h) => HAZARDS[h.kind]))].join(", ")}
    </span>
  );
}

type Line = { kind: "group"; group: Group } | { kind: "row"; index: number };

/** Lines of the table: groups with their rows, those of folded groups left out. */
export function linesOf(
  total: number,
  groups: readonly Group[],
  folded: ReadonlySet<string>,
): Line[] {
  if (!groups.length) return Array.from({ length: total }, (_, index) => ({ kind: "row", index }));
  const lines: Line[] = [];
  let index = 0;
  for (const group of groups) {
    lines.push({ kind: "group", group });
    if (!folded.has(group.name))
      for (let i = 0; i < group.machines; i++) lines.push({ kind: "row", index: index + i });
    index += group.machines;
  }
  return lines;
}

const ROW_PX = 28;
const MARK_PX = 30;
/** How many columns stand abreast in a narrow window; the others follow below them. */
const ABREAST = 3;

/** The long table: rows are asked for by the hundred as they come into sight. */
export function MachineTable(props: {
  shown: Shown;
  total: number;
  groups: readonly Group[];
  columns: readonly string[];
  worst: Record<string, number | null> | undefined;
  back: Record<string, number | null> | undefined;
  on: string;
  chosen: string | null;
  marked: ReadonlyMap<string, unknown>;
  onMark: (row: MachineEntry, on: boolean) => void;
  onSort: (sort: string) => void;
  onOpen: (name: string) => void;
}) {
  const { shown, total, groups, worst, back, on, chosen, marked } = props;
  const { plan, draft } = useWorkbench();
  const [folded, setFolded] = useState<ReadonlySet<string>>(new Set());
  const frame = useRef<HTMLDivElement>(null);
  const names = props.columns.join();
  const columns = useMemo(() => COLUMNS.filter((c) => names.split(",").includes(c.id)), [names]);
  const narrow = useNarrow();
  const linesOfRow = Math.ceil(columns.length / ABREAST);
  const rowPx = narrow ? ROW_PX * linesOfRow : ROW_PX;
  const wide = `${MARK_PX}px ${columns.map((c) => (c.grows ? `minmax(${c.width}px,${c.grows}fr)` : `${c.width}px`)).join(" ")}`;
  const template = narrow ? `${MARK_PX}px repeat(${ABREAST}, minmax(0, 1fr))` : wide;
  const least = narrow ? 0 : columns.reduce((sum, column) => sum + column.width, MARK_PX);
  const markSpan = useMemo(
    () => (narrow ? { gridRow: `1 / span ${linesOfRow}` } : undefined),
    [narrow, linesOfRow],
  );
  const lines = useMemo(() => linesOf(total, groups, folded), [total, groups, folded]);
  const virtual = useVirtualizer({
    count: lines.length,
    getScrollElement: () => frame.current,
    estimateSize: (index) => (lines[index]?.kind === "group" ? ROW_PX : rowPx),
    overscan: 8,
    // Rows may come a frame later than the scroll; waiting for them in the same frame drops frames.
    useFlushSync: false,
  });
  useEffect(() => virtual.measure(), [virtual, rowPx, lines]);
  const visible = virtual.getVirtualItems();
  // The table is one stop of the Tab key: the line that had the focus last, else the first.
  const [last, setLast] = useState(0);
  const stop = visible.some((item) => item.index === last) ? last : (visible[0]?.index ?? 0);
  const pages = [
    ...new Set(
      visible.flatMap((item) => {
        const line = lines[item.index];
        return line?.kind === "row" ? [Math.floor(line.index / PAGE)] : [];
      }),
    ),
  ];
  const answers = useQueries({
    queries: pages.map((page) => pageQuery(plan, draft, shown, page)),
  });
  const rowAt = (index: number): MachineEntry | undefined =>
    answers[pages.indexOf(Math.floor(index / PAGE))]?.data?.rows[index % PAGE];
  const fold = (name: string) =>
    setFolded((before) => {
      const now = new Set(before);
      if (!now.delete(name)) now.add(name);
      return now;
    });
  const step = (event: KeyboardEvent, at: number) => {
    const by = { ArrowDown: 1, ArrowUp: -1, PageDown: 15, PageUp: -15 }[event.key];
    if (!by) return;
    event.preventDefault();
    const to = Math.max(0, Math.min(lines.length - 1, at + by));
    virtual.scrollToIndex(to);
    requestAnimationFrame(() =>
      requestAnimationFrame(() =>
        frame.current?.querySelector<HTMLElement>(`[data-line="${to}"]`)?.focus(),
      ),
    );
  };
  const acts = useRef<Acts>({ open: props.onOpen, mark: props.onMark, step });
  useEffect(() => {
    acts.current = { open: props.onOpen, mark: props.onMark, step };
  });
  return (
    <div
      ref={frame}
      data-scroller
      role="table"
      aria-label="Machines"
      onFocus={(event) => {
        const line = (event.target as HTMLElement).dataset["line"];
        if (line !== undefined) setLast(Number(line));
      }}
      aria-rowcount={lines.length + 1}
      tabIndex={0}
      className="min-h-0 flex-1 overflow-auto px-2 narrow:h-[85vh] narrow:flex-none"
    >
      <div
        role="row"
        aria-rowindex={1}
        className="sticky top-0 z-10 grid items-end border-b border-rule-strong bg-ground text-ink-2"
        style={{ gridTemplateColumns: template, minWidth: least }}
      >
        <span role="columnheader" className="px-2 py-1" style={markSpan}>
          <span className="sr-only">Marked</span>
        </span>
        {columns.map((column) => {
          const sorted = column.sort === shown.sort;
          return (
            <span
              key={column.id}
              role="columnheader"
              aria-sort={sorted ? (shown.descending ? "descending" : "ascending") : undefined}
              className={clsx("py-1", column.right && "text-right")}
            >
              {column.sort ? (
                <button
                  type="button"
                  className="inline-flex items-center gap-1 px-2 font-medium hover:text-ink"
                  onClick={() => props.onSort(column.sort ?? "name")}
                >
                  {column.title}
                  {sorted &&
                    (shown.descending ? (
                      <ArrowDown size={12} aria-hidden />
                    ) : (
                      <ArrowUp size={12} aria-hidden />
                    ))}
                </button>
              ) : (
                <span className="px-2 font-medium">{column.title}</span>
              )}
            </span>
          );
        })}
      </div>
      <div
        role="rowgroup"
        className="relative"
        style={{ height: virtual.getTotalSize(), minWidth: least }}
      >
        {visible.map((item) => {
          const line = lines[item.index];
          if (!line) return null;
          if (line.kind === "group") {
            const { group } = line;
            const closed = folded.has(group.name);
            return (
              <div
                key={`group ${group.name}`}
                role="row"
                aria-rowindex={item.index + 2}
                className="absolute inset-x-0 top-0 flex items-center border-b border-rule bg-closed"
                style={{ transform: `translateY(${item.start}px)`, height: ROW_PX }}
              >
                <span role="cell" className="w-full">
                  <button
                    type="button"
                    data-line={item.index}
                    tabIndex={item.index === stop ? 0 : -1}
                    aria-expanded={!closed}
                    onClick={() => fold(group.name)}
                    onKeyDown={(event) => step(event, item.index)}
                    className="flex w-full items-center gap-1.5 px-1.5 text-left"
                  >
                    {closed ? (
                      <ChevronRight size={14} aria-hidden />
                    ) : (
                      <ChevronDown size={14} aria-hidden />
                    )}
                    <span className="font-semibold">{group.name || "without"}</span>
                    <span className="text-ink-2">
                      {count(group.machines, "machine")}, {gib(group.used_gib)} used
                    </span>
                    {group.not_protected > 0 && (
                      <span className="text-barn">{group.not_protected} not protected</span>
                    )}
                  </button>
                </span>
              </div>
            );
          }
          const row = rowAt(line.index);
          return (
            <MachineRow
              key={`row ${line.index}`}
              row={row}
              at={item.index}
              isStop={item.index === stop}
              start={item.start}
              template={template}
              height={rowPx}
              markSpan={markSpan}
              columns={columns}
              marked={row !== undefined && marked.has(row.name)}
              chosen={row !== undefined && row.name === chosen}
              worst={worst && row ? (worst[row.name] ?? null) : undefined}
              back={back && row ? (back[row.name] ?? null) : undefined}
              on={on}
              zone={plan.time_zone}
              acts={acts}
            />
          );
        })}
      </div>
    </div>
  );
}

interface Acts {
  open: (name: string) => void;
  mark: (row: MachineEntry, on: boolean) => void;
  step: (event: KeyboardEvent, at: number) => void;
}

/** One row. It is drawn again only when something of it changes: scrolling moves the others. */
const MachineRow = memo(function MachineRow(props: {
  row: MachineEntry | undefined;
  at: number;
  isStop: boolean;
  start: number;
  template: string;
  height: number;
  markSpan: CSSProperties | undefined;
  columns: readonly Column[];
  marked: boolean;
  chosen: boolean;
  worst: number | null | undefined;
  back: number | null | undefined;
  on: string;
  zone: string;
  acts: { readonly current: Acts };
}) {
  const { row, at, columns, marked, acts } = props;
  return (
    <div
      role="row"
      aria-rowindex={at + 2}
      data-line={at}
      data-machine={row?.name}
      tabIndex={props.isStop ? 0 : -1}
      onClick={() => row && acts.current.open(row.name)}
      onKeyDown={(event) => {
        if (event.key === "Enter" && row) acts.current.open(row.name);
        else if (event.key === " " && row) {
          event.preventDefault();
          acts.current.mark(row, !marked);
        } else acts.current.step(event, at);
      }}
      className={clsx(
        "absolute inset-x-0 top-0 grid items-center border-b border-rule hover:bg-closed focus-visible:-outline-offset-2",
        props.chosen && "bg-closed",
      )}
      style={{
        transform: `translateY(${props.start}px)`,
        height: props.height,
        gridTemplateColumns: props.template,
      }}
    >
      <span role="cell" className="px-2" style={props.markSpan}>
        {row && (
          <input
            type="checkbox"
            aria-label={`Mark ${row.name}`}
            tabIndex={-1}
            checked={marked}
            onClick={(event) => event.stopPropagation()}
            onChange={(event) => acts.current.mark(row, event.target.checked)}
            className="size-3.5 appearance-none rounded-[2px] border border-rule-strong bg-surface align-middle checked:border-ink checked:bg-ink"
          />
        )}
      </span>
      {columns.map((column) => (
        <span
          key={column.id}
          role="cell"
          className={clsx("min-w-0 truncate px-2", column.right && "text-right")}
        >
          {row ? (
            column.cell(row, {
              worst: props.worst,
              back: props.back,
              on: props.on,
              zone: props.zone,
            })
          ) : column.id === "name" ? (
            <span className="text-ink-2">…</span>
          ) : null}
        </span>
      ))}
    </div>
  );
});
