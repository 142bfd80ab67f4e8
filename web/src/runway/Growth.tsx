import { Allowed } from "../workbench/Allowed";
import { percentage } from "../workbench/learned";
import { LearnedFacts } from "../workbench/LearnedFacts";
import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { choicesQuery } from "../api/jobQueries";
import {
  type AssumptionTold,
  growthQuery,
  type LearnedGrowth,
  type RoleGrowth,
  runwayQuery,
} from "../api/runwayQueries";
import type { Operation } from "../api/client";
import { Rules } from "../sentence/editors/rules";
import type { Condition } from "../sentence/value";
import { AskButton } from "../ui/AskButton";
import { Button } from "../ui/Button";
import { NumberField, Pick } from "../ui/controls";
import { Field } from "../ui/Field";
import { Sheet } from "../ui/Sheet";
import { count } from "../ui/words";
import { useAddress } from "../workbench/address";
import { useConsiderWhileShown } from "../workbench/considering";
import { useEscape } from "../workbench/keys";
import { useWorkbench } from "../workbench/store";
import { useMeant } from "./meant";

/** How machines grow, as it was learned; and changes of the estate to come. */
export function Growth() {
  const { plan, draft, put } = useWorkbench();
  const { search, set } = useAddress();
  const { ahead } = useMeant();
  const runway = useQuery(runwayQuery(plan, draft, ahead, null, []));
  const [editing, setEditing] = useState(search.get("new") !== null);
  useEscape(() => {
    setEditing(false);
    set({ new: null });
  });
  const told = runway.data?.assumptions ?? [];
  const change = (id: string, changes: Record<string, unknown>) =>
    void put([{ operation: "ChangeItem", list: "assumptions", id, changes } as Operation]);
  return (
    <div className="flex min-h-0 flex-1 narrow:flex-col">
      <main
        className="min-w-0 flex-1 overflow-y-auto px-4 pb-4"
        aria-label="Growth and changes to come"
      >
        <h1 className="sr-only">Runway: Growth and changes</h1>
        <section aria-label="Changes to come" className="pt-2">
          <h2 className="text-lg font-semibold">Changes to come</h2>
          <p className="max-w-[80ch] text-ink-2">
            What the estate is expected to do. A change counts in looks ahead while it is ticked; it
            changes no night of the board.
          </p>
          <ul className="py-1">
            {told.map((each) => (
              <AssumptionLine
                key={each.id}
                told={each}
                onSwitch={(active) => change(each.id, { active })}
                onRemove={() =>
                  void put([
                    { operation: "RemoveItem", list: "assumptions", id: each.id } as Operation,
                  ])
                }
              />
            ))}
            {runway.data && !told.length && (
              <li className="text-ink-2">Nothing is expected yet.</li>
            )}
          </ul>
          <Allowed>
            <Button onClick={() => setEditing(true)}>Expect a change</Button>
          </Allowed>
        </section>
        <Learned />
      </main>
      {editing && (
        <AssumptionSheet
          taken={told.map((each) => each.id)}
          onClose={() => {
            setEditing(false);
            set({ new: null });
          }}
        />
      )}
    </div>
  );
}

function AssumptionLine({
  told,
  onSwitch,
  onRemove,
}: {
  told: AssumptionTold;
  onSwitch: (active: boolean) => void;
  onRemove: () => void;
}) {
  // It turns at once; what comes back from the server settles it.
  const [turned, setTurned] = useState<{ from: AssumptionTold; to: boolean } | null>(null);
  const active = turned?.from === told ? turned.to : told.active;
  return (
    <li className="flex items-center gap-3 border-t border-rule py-1">
      <label className="flex min-w-0 flex-1 items-center gap-2">
        <input
          type="checkbox"
          checked={active}
          onChange={(event) => {
            setTurned({ from: told, to: event.target.checked });
            onSwitch(event.target.checked);
          }}
        />
        <span>
          <b>{told.id}</b>: {told.words}
          {told.machines !== null && (
            <span className="text-ink-2"> · means {count(told.machines, "machine")} of today</span>
          )}
        </span>
      </label>
      <AskButton small question={`Delete the expected change ${told.id}?`} onYes={onRemove}>
        Delete
      </AskButton>
    </li>
  );
}

type Kind = "joins" | "leaves" | "grows";

/** A change of the estate to come, made of rules as those of a job. */
function AssumptionSheet({ taken, onClose }: { taken: string[]; onClose: () => void }) {
  const { plan, draft, put, refused, busy } = useWorkbench();
  const offered = useQuery(choicesQuery(plan, draft));
  const [name, setName] = useState("");
  const [kind, setKind] = useState<Kind>("joins");
  const [rules, setRules] = useState<Condition[][]>([]);
  const [on, setOn] = useState("");
  const [number, setNumber] = useState<number | null>(null);
  const [growth, setGrowth] = useState<number | null>(20);
  const [kept, setKept] = useState<number | null>(null);
  const value = {
    id: name.trim(),
    kind,
    rules,
    ...(kind === "grows" ? { growth_per_year: (growth ?? 0) / 100 } : { on }),
    ...(kind === "joins" && number !== null && { count: number }),
    ...(kind === "leaves" && kept !== null && { points_kept_days: kept }),
  };
  const ready =
    name.trim() !== "" &&
    !taken.includes(name.trim()) &&
    rules.length > 0 &&
    (kind === "grows" ? growth !== null : on !== "");
  const operations = ready
    ? [{ operation: "AddItem", list: "assumptions", value } as Operation]
    : [];
  useConsiderWhileShown(operations);
  return (
    <Sheet label="A change to come" title="Expect a change" onClose={onClose}>
      <Field
        label="Name"
        autoFocus
        value={name}
        wrong={taken.includes(name.trim()) ? "is the name of another one" : null}
        onChange={(event) => setName(event.target.value)}
      />
      <Pick
        label="What happens:"
        value={kind}
        options={[
          { value: "joins", label: "machines like some join" },
          { value: "leaves", label: "machines leave" },
          { value: "grows", label: "machines grow by another share" },
        ]}
        onChange={(next) => setKind(next as Kind)}
      />
      {offered.data ? (
        <Rules rules={rules} offered={offered.data} onChange={setRules} />
      ) : (
        <p role="status">Reading what there is …</p>
      )}
      <div className="mt-3">
        {kind !== "grows" && (
          <Field
            label="On"
            type="date"
            value={on}
            onChange={(event) => setOn(event.target.value)}
          />
        )}
        {kind === "joins" && (
          <NumberField
            label="How many"
            value={number}
            empty="as many as are named"
            onChange={setNumber}
          />
        )}
        {kind === "leaves" && (
          <NumberField
            label="Their points stay for"
            unit="days"
            value={kept}
            empty="until somebody deletes them"
            onChange={setKept}
          />
        )}
        {kind === "grows" && (
          <NumberField label="Growth a year" unit="%" value={growth} onChange={setGrowth} />
        )}
      </div>
      {refused && (
        <p role="alert" className="text-barn">
          {refused.message}
        </p>
      )}
      <p className="flex gap-2">
        <Button
          look="strong"
          disabled={!ready || refused !== null || busy === "saving"}
          onClick={() => void put(operations).then((done) => done && onClose())}
        >
          Add to draft
        </Button>
        <Button look="plain" onClick={onClose}>
          Discard
        </Button>
      </p>
    </Sheet>
  );
}

/** What a machine grows by, and what that rests on. */
interface Offered {
  machine: string;
  folder: string;
  used_gib: number;
  stated: number;
  growth: number;
  low: number | null;
  high: number | null;
  rests: string;
}

const ofFulls = (row: LearnedGrowth): Offered => ({
  ...row,
  growth: row.learned,
  rests: `${count(row.fulls, "full")}, ${count(Math.round(row.days), "day")}`,
});

const ofRole = (row: RoleGrowth): Offered => ({
  ...row,
  growth: row.usual,
  low: null,
  high: null,
  rests: `its role: the median of ${row.machines} with the role ${row.role}`,
});

/** Growth is stated to the percent: what differs by less says nothing against it. */
const ROUNDED = 0.005;

/**
 * Whether the fulls of a machine speak against what is stated: it lies outside their span. What its
 * role says counts where nothing is stated.
 */
const saysOtherwise = (row: Offered) =>
  row.low === null || row.high === null
    ? row.stated === 0 && Math.abs(row.growth) > ROUNDED
    : row.stated < row.low - ROUNDED || row.stated > row.high + ROUNDED;

/** Growth as the fulls of the ledger show it, beside what is stated. */
function Learned() {
  const { plan } = useWorkbench();
  const found = useQuery(growthQuery(plan));
  const all = found.data
    ? [...found.data.machines.map(ofFulls), ...found.data.by_role.map(ofRole)]
    : [];
  return (
    <LearnedFacts
      plan={plan.id}
      fact="growth_per_year"
      what="growth"
      label="Growth as it was learned"
      title="Growth, as the fulls show it"
      table="growth"
      rows={all}
      known={found.data !== undefined}
      error={found.error}
      valueOf={(row) => row.growth}
      differs={saysOtherwise}
      only="Only where the stated growth is missing or lies outside the span"
      none="No machine has enough fulls in the ledger yet: four over three weeks are needed."
      columns={[
        {
          id: "learned",
          header: "Learned a year",
          accessorKey: "growth",
          meta: { right: true },
          cell: ({ row }) => (
            <>
              <b>{percentage(row.original.growth)}</b>{" "}
              {row.original.low !== null && row.original.high !== null && (
                <span className="text-ink-2">
                  ({percentage(row.original.low)} to {percentage(row.original.high)})
                </span>
              )}
            </>
          ),
        },
        { id: "rests", header: "Rests on", accessorKey: "rests", meta: { right: true } },
      ]}
    >
      A full brings all that is in use, so the fulls of the ledger tell how a machine grew. The span
      holds the true growth in 9 of 10 cases. A machine with too few fulls may grow as others of its
      role do. What is taken over becomes the stated growth of the machine, and counts in every
      forecast.{" "}
      {found.data && found.data.without > 0 && all.length > 0 && (
        <>{count(found.data.without, "machine")} of jobs have too few fulls in the ledger yet.</>
      )}
    </LearnedFacts>
  );
}
