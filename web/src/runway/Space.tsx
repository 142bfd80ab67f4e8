import { useQuery } from "@tanstack/react-query";
import { useCallback, useEffect, useMemo, useState } from "react";
import type { Operation } from "../api/client";
import { showCurves } from "../api/curvesFirst";
import { type Ahead, asked, runwayQuery } from "../api/runwayQueries";
import { Button } from "../ui/Button";
import { Choice } from "../ui/Choice";
import { count } from "../ui/words";
import { useAddress } from "../workbench/address";
import { useEscape } from "../workbench/keys";
import { useWorkbench } from "../workbench/store";
import { Months } from "./Asking";
import { FEARS, useMeant } from "./meant";
import { JobSheet } from "./JobSheet";
import { Panels } from "./Panels";
import { RepositorySheet } from "./RepositorySheet";
import { SpaceTable } from "./SpaceTable";
import { TableFiles } from "../ui/TableFiles";

/** The curves, as soon as they are there; those of the feared growth follow them. */
function useCurves(ahead: Ahead, feared: number | null, operations: readonly Operation[]) {
  const { plan, draft } = useWorkbench();
  const known = useQuery(runwayQuery(plan, draft, ahead, null, operations));
  const fear = useQuery({
    ...runwayQuery(plan, draft, ahead, feared, operations),
    enabled: feared !== null && known.isSuccess && !known.isPlaceholderData,
  });
  const runway = useMemo(() => {
    if (feared === null || !known.data || !fear.data) return known.data;
    if (!fear.isPlaceholderData) return fear.data;
    // Until the new ones are there, the feared curves of before stand.
    const before = new Map(fear.data.repositories.map((each) => [each.id, each]));
    return {
      ...known.data,
      repositories: known.data.repositories.map((life) => ({
        ...life,
        feared_gib: before.get(life.id)?.feared_gib ?? [],
        feared_full_at: before.get(life.id)?.feared_full_at ?? null,
      })),
    };
  }, [feared, known.data, fear.data, fear.isPlaceholderData]);
  return {
    runway,
    error: known.error ?? fear.error,
    isFetching: known.isFetching || fear.isFetching,
  };
}

/** The space of every repository over the months, answering while jobs are edited beside it. */
export function Space() {
  const { plan, draft, considered } = useWorkbench();
  useEffect(showCurves, []);
  const { search, set } = useAddress();
  const { ahead, fear, setMonths, setFear, setGrows } = useMeant();
  const feared = fear === null ? null : fear / 100;
  const found = useCurves(ahead, feared, considered);
  const saved = useQuery(runwayQuery(plan, draft, ahead, feared, []));
  const chosen = search.get("repository");
  const job = search.get("job");
  const [cameFrom, setCameFrom] = useState<string | null>(null);
  const asTable = search.get("as") === "table";
  const back = useCallback(() => {
    const focus = (what: string) =>
      requestAnimationFrame(() => document.querySelector<HTMLElement>(what)?.focus());
    if (search.get("clause")) set({ clause: null });
    else if (job) {
      setCameFrom(job);
      set({ job: null });
    } else if (chosen) {
      set({ repository: null });
      focus(`[data-repository="${CSS.escape(chosen)}"]`);
    }
  }, [chosen, job, search, set]);
  useEscape(back);
  const runway = found.runway;
  const error = found.error ?? saved.error;
  return (
    <div className="flex min-h-0 flex-1 narrow:flex-col">
      <main className="flex min-w-0 flex-1 flex-col overflow-y-auto" aria-label="Space ahead">
        <h1 className="sr-only">Runway: Space</h1>
        <div className="flex flex-wrap items-center gap-x-2 px-4 pt-1 print:hidden">
          <Months lead="Look ahead" months={ahead.months} onChange={setMonths} />
          <Choice
            lead="Feared growth"
            value={fear === null ? "none" : String(fear)}
            options={[
              { value: "none", label: "none" },
              ...FEARS.map((n) => ({ value: String(n), label: `${n} % a year or more` })),
            ]}
            onChange={(value) => setFear(value === "none" ? null : Number(value))}
          />
          <Choice
            lead="Disks that fill"
            value={ahead.provisioned_grows ? "yes" : "no"}
            options={[
              { value: "yes", label: "are enlarged" },
              { value: "no", label: "stay as they are" },
            ]}
            onChange={(value) => setGrows(value === "yes")}
          />
          <Button
            look="plain"
            aria-pressed={asTable}
            className={asTable ? "bg-closed" : ""}
            onClick={() => set({ as: asTable ? null : "table" })}
          >
            As a table
          </Button>
          <TableFiles
            of={`plans/${plan.id}/tables/space`}
            what="Space"
            body={{ ...asked(draft, ahead, considered), feared }}
          />
          <span className="flex-1" />
          <span role="status" className="text-ink-2">
            {found.isFetching ? "projecting …" : ""}
          </span>
        </div>
        {error && (
          <p role="alert" className="px-4 text-barn">
            {error.message}
          </p>
        )}
        {!runway && !error && (
          <p role="status" className="p-4">
            Projecting the months ahead …
          </p>
        )}
        {runway && (
          <>
            <p className="px-4 pt-1 pb-2 text-lg leading-snug">{runway.sentence}</p>
            {asTable ? (
              <SpaceTable runway={runway} />
            ) : (
              <Panels
                runway={runway}
                before={considered.length ? (saved.data ?? null) : null}
                zone={plan.time_zone}
                chosen={chosen}
                onChoose={(id) =>
                  set({ repository: id === chosen ? null : id, job: null, clause: null })
                }
              />
            )}
            {!asTable && <Legend feared={fear} />}
            {runway.assumptions.some((each) => each.active) && (
              <p className="px-4 pt-2">
                Counts{" "}
                {count(runway.assumptions.filter((each) => each.active).length, "assumption")}:{" "}
                {runway.assumptions
                  .filter((each) => each.active)
                  .map((each) => each.id)
                  .join(", ")}
                .
              </p>
            )}
            <ul className="px-4 py-2 text-ink-2" aria-label="What to know">
              {runway.notes.map((note) => (
                <li key={note}>{note}</li>
              ))}
            </ul>
          </>
        )}
      </main>
      {job ? (
        <JobSheet key={job} id={job} onClose={back} />
      ) : (
        chosen &&
        runway && (
          <RepositorySheet
            key={chosen}
            runway={runway}
            id={chosen}
            ahead={ahead}
            onClose={back}
            cameFrom={cameFrom}
            onJob={(id) => set({ job: id })}
          />
        )
      )}
    </div>
  );
}

function Legend({ feared }: { feared: number | null }) {
  const box = "mr-1 inline-block h-2.5 w-5 align-middle";
  return (
    <p className="flex flex-wrap gap-x-4 px-4 pt-1.5 text-xs text-ink-2">
      <span>
        <i className={box} style={{ background: "var(--slate)", opacity: 0.5 }} />a job’s points
      </span>
      <span>
        <i className={box} style={{ background: "var(--plum)", opacity: 0.5 }} />
        copies
      </span>
      <span>
        <i
          className={box}
          style={{
            background: "repeating-linear-gradient(135deg, var(--ink) 0 1px, transparent 1px 4px)",
          }}
        />
        only a chain needs it
      </span>
      <span>
        <i
          className={box}
          style={{
            background:
              "repeating-linear-gradient(135deg, var(--ink) 0 1px, transparent 1px 3px), repeating-linear-gradient(45deg, var(--ink) 0 1px, transparent 1px 3px)",
          }}
        />
        only an immutable span holds it
      </span>
      <span>
        <i className={`late-hatch ${box}`} />
        above the roof
      </span>
      {feared !== null && (
        <span>
          <i
            className="mr-1 inline-block w-5 border-t-2 border-dashed align-middle"
            style={{ borderColor: "var(--hay)" }}
          />
          every machine grows by {feared} % or more
        </span>
      )}
    </p>
  );
}
