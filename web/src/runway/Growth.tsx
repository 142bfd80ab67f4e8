import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { editFacts, factEdit } from "../api/estateQueries";
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
import { Flag, NumberField, Pick } from "../ui/controls";
import { Field } from "../ui/Field";
import { Sheet } from "../ui/Sheet";
import { Table } from "../ui/Table";
import { count, gib } from "../ui/words";
import { useAddress } from "../workbench/address";
import { useConsiderWhileShown } from "../workbench/considering";
import { useEscape } from "../workbench/keys";
import { useWorkbench } from "../workbench/store";
import { useMeant } from "./meant";

const share = (value: number) =>
  `${(value * 100).toLocaleString("en-GB", { maximumFractionDigits: 1 })} %`;

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
          <Button onClick={() => setEditing(true)}>Expect a change</Button>
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
  const client = useQueryClient();
  const found = useQuery(growthQuery(plan));
  const [some, setSome] = useState<ReadonlySet<string>>(new Set());
  const [plainOnly, setPlainOnly] = useState(true);
  const take = useMutation({
    mutationFn: async (rows: Offered[]) => {
      // Machines with the same growth are one edit, which can be brought back.
      const groups = new Map<number, string[]>();
      for (const row of rows) {
        const rounded = Math.round(row.growth * 1000) / 1000;
        groups.set(rounded, [...(groups.get(rounded) ?? []), row.machine]);
      }
      for (const [growth, machines] of groups)
        await editFacts(plan.id, factEdit(machines, { state: { growth_per_year: growth } }));
    },
    onSuccess: () => {
      setSome(new Set());
      void client.invalidateQueries({ queryKey: ["plan", plan.id] });
    },
  });
  const all = found.data
    ? [...found.data.machines.map(ofFulls), ...found.data.by_role.map(ofRole)]
    : [];
  const rows = plainOnly ? all.filter(saysOtherwise) : all;
  const chosen = rows.filter((row) => some.has(row.machine));
  return (
    <section aria-label="Growth as it was learned" className="pt-4">
      <h2 className="text-lg font-semibold">Growth, as the fulls show it</h2>
      <p className="max-w-[80ch] text-ink-2">
        A full brings all that is in use, so the fulls of the ledger tell how a machine grew. The
        span holds the true growth in 9 of 10 cases. A machine with too few fulls may grow as others
        of its role do. What is taken over becomes the stated growth of the machine, and counts in
        every forecast.
      </p>
      {found.error && (
        <p role="alert" className="text-barn">
          {found.error.message}
        </p>
      )}
      {found.data && !all.length && (
        <p className="py-1">
          No machine has enough fulls in the ledger yet: four over three weeks are needed.
        </p>
      )}
      {all.length > 0 && (
        <>
          <div className="flex flex-wrap items-center gap-3 py-1">
            <Flag
              label={`Only where the stated growth is missing or lies outside the span (${count(all.filter(saysOtherwise).length, "machine")} of ${all.length})`}
              value={plainOnly}
              onChange={setPlainOnly}
            />
            <Button
              disabled={!rows.length}
              onClick={() =>
                setSome(
                  chosen.length === rows.length
                    ? new Set()
                    : new Set(rows.map((row) => row.machine)),
                )
              }
            >
              {chosen.length === rows.length && rows.length ? "Choose none" : "Choose all"}
            </Button>
            <Button
              look="strong"
              disabled={!chosen.length || take.isPending}
              onClick={() => take.mutate(chosen)}
            >
              Take over the growth of {count(chosen.length, "machine")}
            </Button>
            {take.error && (
              <span role="alert" className="text-barn">
                {take.error.message}
              </span>
            )}
          </div>
          <Table
            caption="Growth of machines, stated and learned"
            rows={rows}
            idOf={(row) => row.machine}
            columns={[
              {
                id: "take",
                header: "Take",
                enableSorting: false,
                cell: ({ row }) => (
                  <input
                    type="checkbox"
                    aria-label={`Take over the growth of ${row.original.machine}`}
                    checked={some.has(row.original.machine)}
                    onChange={(event) => {
                      const next = new Set(some);
                      if (event.target.checked) next.add(row.original.machine);
                      else next.delete(row.original.machine);
                      setSome(next);
                    }}
                  />
                ),
              },
              { id: "machine", header: "Machine", accessorKey: "machine" },
              { id: "folder", header: "Folder", accessorKey: "folder" },
              {
                id: "used",
                header: "Used",
                accessorKey: "used_gib",
                meta: { right: true },
                cell: ({ row }) => gib(row.original.used_gib),
              },
              {
                id: "stated",
                header: "Stated",
                accessorKey: "stated",
                meta: { right: true },
                cell: ({ row }) => share(row.original.stated),
              },
              {
                id: "learned",
                header: "Learned a year",
                accessorKey: "growth",
                meta: { right: true },
                cell: ({ row }) => (
                  <>
                    <b>{share(row.original.growth)}</b>{" "}
                    {row.original.low !== null && row.original.high !== null && (
                      <span className="text-ink-2">
                        ({share(row.original.low)} to {share(row.original.high)})
                      </span>
                    )}
                  </>
                ),
              },
              {
                id: "rests",
                header: "Rests on",
                accessorKey: "rests",
                meta: { right: true },
              },
            ]}
          />
        </>
      )}
      {found.data && found.data.without > 0 && all.length > 0 && (
        <p className="pt-1 text-ink-2">
          {count(found.data.without, "machine")} of jobs have too few fulls in the ledger yet.
        </p>
      )}
    </section>
  );
}
