import { Minus, Plus, Printer, Table as TableIcon } from "lucide-react";
import { memo, type ReactNode } from "react";
import type { Night } from "../api/client";
import type { LaneBy } from "../api/planQueries";
import { useWorkbench } from "../workbench/store";
import { clock, dateWords } from "../time/time";
import { Button } from "../ui/Button";
import { Choice, Choices } from "../ui/Choice";
import { Hint } from "../ui/Hint";
import { Verdict } from "../ui/Verdict";
import { count } from "../ui/words";
import type { Sorting } from "./geometry";

const SORTINGS = [
  { value: "trouble", label: "trouble" },
  { value: "end", label: "last end" },
  { value: "size", label: "size" },
  { value: "plan", label: "plan order" },
];
export const LANES: readonly LaneBy[] = [
  "job",
  "machine",
  "host",
  "proxy",
  "repository",
  "link",
  "tier",
];
const LANE_OPTIONS = LANES.map((value) => ({ value, label: value }));

interface Props {
  night: Night;
  by: LaneBy;
  sorting: Sorting;
  wide: "night" | "week";
  asTable: boolean;
  finding: boolean;
  /** how many findings there are; null where that is not known yet */
  findings: number | null;
  choose: (key: string, value: string, usual: string) => void;
  onSorting: (sorting: Sorting) => void;
  onZoom: (factor: number) => void;
  onFindings: () => void;
  onTable: () => void;
  onKeys: (open: boolean) => void;
}

/** What the board shows and how; it stays as it is while the board moves below it. */
export const BoardBar = memo(function BoardBar(props: Props) {
  const {
    night,
    by,
    sorting,
    wide,
    asTable,
    finding,
    findings,
    choose,
    onSorting,
    onZoom,
    onFindings,
    onTable,
    onKeys,
  } = props;
  const { plan, setLoads } = useWorkbench();
  const overview = by !== "job" || wide === "week";
  return (
    <Heading night={night}>
      <Choice
        lead="Lanes by"
        value={by}
        options={LANE_OPTIONS}
        onChange={(v) => choose("lanes", v, "job")}
      />
      <Choice
        lead="sorted by"
        value={sorting}
        options={SORTINGS}
        onChange={(v) => onSorting(v as Sorting)}
      />
      <Hint text="The whole week on one axis, and back (W)">
        <Button
          look="plain"
          aria-pressed={wide === "week"}
          onClick={() => choose("span", wide === "week" ? "night" : "week", "night")}
        >
          Week
        </Button>
      </Hint>
      {!overview && (
        <Choices
          lead="Rooflines"
          said={String(night.loads.length)}
          values={night.loads.map((load) => load.name)}
          options={plan.loads.map((load) => ({ value: load.name, label: load.label }))}
          onChange={setLoads}
        />
      )}
      {!asTable && (
        // Beside a sheet there is no room for these; their keys work as ever.
        <span className="flex items-center @max-[960px]/bar:hidden">
          <Hint text="Zoom out (−)">
            <Button look="plain" aria-label="Zoom out" onClick={() => onZoom(1 / 0.7)}>
              <Minus size={14} aria-hidden />
            </Button>
          </Hint>
          <Hint text="Zoom in (+); 0 fits the night">
            <Button look="plain" aria-label="Zoom in" onClick={() => onZoom(0.7)}>
              <Plus size={14} aria-hidden />
            </Button>
          </Hint>
        </span>
      )}
      <Hint text="What is wrong with this week, and what helps (F)">
        <Button look="plain" aria-pressed={finding} onClick={onFindings}>
          {findings !== null ? (
            <span>
              {count(findings, "finding")}
              <span className="@max-[960px]/bar:sr-only"> this week</span>
            </span>
          ) : (
            "Findings"
          )}
        </Button>
      </Hint>
      <Hint text="The same as a table, and back (T)">
        <Button look="plain" aria-pressed={asTable} onClick={onTable}>
          <TableIcon size={14} aria-hidden /> {asTable ? "Board" : "Table"}
        </Button>
      </Hint>
      <Hint text="Print the board">
        <Button
          look="plain"
          className="print:hidden @max-[960px]/bar:hidden"
          aria-label="Print the board"
          onClick={() => window.print()}
        >
          <Printer size={14} aria-hidden />
        </Button>
      </Hint>
      <Hint text="Keys of the board (?)">
        <Button
          look="plain"
          className="@max-[960px]/bar:hidden"
          aria-label="Keys of the board"
          onClick={() => onKeys(true)}
        >
          ?
        </Button>
      </Hint>
    </Heading>
  );
});

function Heading({ night, children }: { night: Night; children: ReactNode }) {
  const day = dateWords(night.date);
  const zone = night.time_zone;
  const past = night.run_list.filter((run) => run.over_s > 0).length;
  return (
    <div className="@container/bar flex items-center gap-2 px-4 pt-2 narrow:flex-wrap narrow:gap-y-0">
      <h1 className="min-w-0 truncate text-xl font-semibold">
        {day.long} night, {day.day} {day.month}
      </h1>
      <p className="min-w-0 flex-1 truncate pl-2 text-base @max-[960px]/bar:min-w-fit">
        <Verdict verdict={night.verdict} />
        <span className="text-ink-2 @max-[960px]/bar:hidden">
          {night.last_end && ` · last run ends ${clock(night.last_end, zone)}`}
          {past > 0 && ` · ${count(past, "run")} late`}
          {night.missed > 0 && ` · ${count(night.missed, "machine")} not backed up`}
        </span>
      </p>
      {children}
    </div>
  );
}
