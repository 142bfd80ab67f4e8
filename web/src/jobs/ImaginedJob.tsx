import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import {
  askImagined,
  begin,
  choicesQuery,
  type Imagined,
  type RunKind,
  type Start,
} from "../api/jobQueries";
import { pathsQuery } from "../api/pathQueries";
import { NumberField, Pick } from "../ui/controls";
import { Button } from "../ui/Button";
import { gib } from "../ui/words";
import { useAddress } from "../workbench/address";
import { useWorkbench } from "../workbench/store";
import { RoomGrid } from "./Room";
import { codeOf, CODES, type JobValue, weeklyAt } from "../sentence/value";

const NO_WINDOW = "no window";

/** Where there is room for a job before it exists; what is asked stands in the address. */
export function ImaginedJob({ onBegun }: { onBegun: (value: JobValue) => void }) {
  const { plan, draft, date } = useWorkbench();
  const { search, set } = useAddress();
  const choices = useQuery(choicesQuery(plan, draft));
  const paths = useQuery(pathsQuery(plan, draft, date));
  const sites = paths.data?.sites ?? [];
  const [where, setWhere] = useState<string | null>(null);
  const [wrong, setWrong] = useState<string | null>(null);
  if (!choices.data || !paths.data)
    return (
      <p role="status" className="px-4">
        {(choices.error ?? paths.error)?.message ?? "Reading the plan …"}
      </p>
    );
  const asked = JSON.parse(search.get("imagine") ?? "null") as Imagined | null;
  const usual: Imagined = {
    gib: 2048,
    machines: 4,
    daily_change: 0.02,
    site: sites[0]?.id ?? "",
    repository: choices.data.repositories[0] ?? "",
    kind: "full",
    window: choices.data.windows[0] ?? null,
  };
  const use = async (start: Start, wanted: Imagined) => {
    const name = `${gib(wanted.gib)} at ${wanted.site}`;
    try {
      const fresh = await begin(plan.id, {
        draft: draft?.id ?? null,
        operations: [],
        name,
        day: date,
        machines: [],
        like: null,
        template: null,
      });
      const value = fresh.value as unknown as JobValue;
      onBegun({
        ...value,
        repository: wanted.repository,
        window: wanted.window,
        schedules: schedulesFrom(value, start, wanted.kind),
      });
    } catch (error) {
      setWrong((error as Error).message);
    }
  };
  return (
    <div
      className="min-h-0 flex-1 overflow-auto px-4 pb-4"
      tabIndex={0}
      role="region"
      aria-label="Where is room?"
    >
      <Question
        first={asked ?? usual}
        sites={sites.map((site) => site.id)}
        repositories={choices.data.repositories}
        windows={choices.data.windows}
        onAsk={(wanted) => set({ imagine: JSON.stringify(wanted) })}
      />
      {wrong && (
        <p role="alert" className="text-barn">
          {wrong}
        </p>
      )}
      {asked ? (
        <>
          <RoomGrid
            question={`${draft?.id} ${draft?.revision} ${JSON.stringify(asked)}`}
            ask={async (night, signal) => {
              const answer = await askImagined(
                plan.id,
                { ...asked, draft: draft?.id ?? null, operations: [], night },
                signal,
              );
              setWhere(answer.where);
              return answer;
            }}
            onUse={(start) => void use(start, asked)}
          />
          {where && (
            <p className="mt-2 text-ink-2">
              Simulated {where}. “Use it” begins a job with this start, repository and window; you
              then choose its machines.
            </p>
          )}
        </>
      ) : (
        <p className="max-w-[80ch] text-ink-2">
          Say how much data a new job would protect and where. Every half hour of the week is
          simulated with it, before the job or its machines exist.
        </p>
      )}
    </div>
  );
}

/** The schedules of a new job with one run of a kind at a start, every week. */
function schedulesFrom(value: JobValue, { local }: Start, kind: RunKind): JobValue["schedules"] {
  if (kind !== "full")
    return value.schedules.map((schedule) =>
      schedule.kind === "full" ? schedule : { ...schedule, kind, start: local },
    );
  const others = CODES.filter((code) => code !== codeOf(local));
  const rest = value.schedules.find((schedule) => schedule.kind !== "full")!;
  const full = weeklyAt(kind, local, rest.time_zone);
  return [full, { ...rest, rrule: `FREQ=WEEKLY;BYDAY=${others.join(",")}`, start: local }];
}

function Question({
  first,
  sites,
  repositories,
  windows,
  onAsk,
}: {
  first: Imagined;
  sites: readonly string[];
  repositories: readonly string[];
  windows: readonly string[];
  onAsk: (wanted: Imagined) => void;
}) {
  const [wanted, setWanted] = useState(first);
  const change = (some: Partial<Imagined>) => setWanted({ ...wanted, ...some });
  return (
    <form
      aria-label="The imagined job"
      className="mb-2 flex max-w-[1100px] flex-wrap items-end gap-x-4 border-b border-rule pb-2 *:w-36"
      onSubmit={(event) => {
        event.preventDefault();
        onAsk(wanted);
      }}
    >
      <NumberField
        label="Used data"
        unit="GiB"
        value={wanted.gib}
        wrong={wanted.gib > 0 ? null : "above 0"}
        onChange={(v) => v !== null && change({ gib: v })}
      />
      <NumberField
        label="On so many machines"
        value={wanted.machines}
        wrong={wanted.machines >= 1 && wanted.machines <= 500 ? null : "1 to 500"}
        onChange={(v) => v !== null && change({ machines: Math.round(v) })}
      />
      <NumberField
        label="Daily change"
        unit="%"
        value={Math.round(wanted.daily_change * 1000) / 10}
        wrong={wanted.daily_change >= 0 ? null : "0 or more"}
        onChange={(v) => v !== null && change({ daily_change: v / 100 })}
      />
      <Pick
        label="At site"
        value={wanted.site}
        options={sites}
        onChange={(v) => change({ site: v })}
      />
      <Pick
        label="To repository"
        value={wanted.repository}
        options={repositories}
        onChange={(v) => change({ repository: v })}
      />
      <Pick
        label="Inside window"
        value={wanted.window ?? NO_WINDOW}
        options={[...windows, NO_WINDOW]}
        onChange={(v) => change({ window: v === NO_WINDOW ? null : v })}
      />
      <Pick
        label="A run of kind"
        value={wanted.kind}
        options={["full", "incremental", "differential"]}
        onChange={(v) => change({ kind: v as RunKind })}
      />
      <Button type="submit" look="strong" className="mb-2">
        Find room
      </Button>
    </form>
  );
}
