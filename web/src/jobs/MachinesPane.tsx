import { useMemo, useState } from "react";
import { Button } from "../ui/Button";
import { Table } from "../ui/Table";
import { bytes, count, gib } from "../ui/words";
import type { Look, Near, Selected } from "../api/jobQueries";
import type { JobEdit } from "../sentence/useJobEdit";
import { LeaveOutForm } from "../sentence/LeaveOutForm";
import { including, leavingOut, selectionOf } from "../sentence/value";

/** The machines that the job takes now, and those that it nearly takes. */
export function MachinesPane({ edit, look }: { edit: JobEdit; look: Look | undefined }) {
  const { value, set } = edit;
  const [leaving, setLeaving] = useState<string | null>(null);
  const selected = useMemo(() => {
    type Cell = { row: { original: Selected } };
    const toggle = (machine: string, disk: string, out: boolean) =>
      set({
        exclude_disks: out
          ? [...value.exclude_disks, [machine, disk]]
          : value.exclude_disks.filter(([m, d]) => m !== machine || d !== disk),
      });
    return [
      {
        header: "Machine",
        accessorFn: (m: Selected) => m.machine,
        cell: (c: Cell) => <span className="font-mono text-xs">{c.row.original.machine}</span>,
      },
      { header: "Comes in", accessorFn: (m: Selected) => m.by.join(" or ") },
      ...(value.destinations.length
        ? [{ header: "Goes to", accessorFn: (m: Selected) => m.repository }]
        : []),
      {
        header: "Protected",
        accessorFn: (m: Selected) => m.protected_bytes,
        cell: (c: Cell) => bytes(c.row.original.protected_bytes),
        meta: { right: true },
      },
      {
        header: "Disks",
        accessorFn: (m: Selected) => m.disks.length,
        cell: (c: Cell) => (
          <span className="flex flex-wrap gap-x-2">
            {[...c.row.original.disks, ...c.row.original.left_out].sort().map((disk) => {
              // What is ticked here counts before the server has answered.
              const named = value.exclude_disks.some(
                ([m, d]) => m === c.row.original.machine && d === disk,
              );
              const kept = !named && c.row.original.disks.includes(disk);
              return (
                <label key={disk} className="flex items-center gap-1 text-xs">
                  <input
                    type="checkbox"
                    checked={kept}
                    disabled={!kept && !named}
                    onChange={(e) => toggle(c.row.original.machine, disk, !e.target.checked)}
                  />
                  {disk}
                  {!kept && !named && <span className="text-ink-2">by rule</span>}
                </label>
              );
            })}
          </span>
        ),
      },
      {
        header: "Also in",
        accessorFn: (m: Selected) => m.elsewhere.join(", "),
        cell: (c: Cell) => (
          <span className="text-hay-text">{c.row.original.elsewhere.join(", ")}</span>
        ),
      },
      {
        id: "out",
        header: () => <span className="sr-only">Leave out</span>,
        accessorFn: () => "",
        cell: (c: Cell) => (
          <Button small look="plain" onClick={() => setLeaving(c.row.original.machine)}>
            Leave out
          </Button>
        ),
      },
    ];
  }, [set, value]);
  const near = useMemo(() => {
    type Cell = { row: { original: Near } };
    const selection = selectionOf(value);
    return [
      {
        header: "Nearly",
        accessorFn: (m: Near) => m.machine,
        cell: (c: Cell) => <span className="font-mono text-xs">{c.row.original.machine}</span>,
      },
      { header: "But", accessorFn: (m: Near) => m.why },
      {
        header: "Used",
        accessorFn: (m: Near) => m.used_gib,
        cell: (c: Cell) => gib(c.row.original.used_gib),
        meta: { right: true },
      },
      { header: "In", accessorFn: (m: Near) => m.elsewhere.join(", ") || "no job" },
      {
        id: "in",
        header: () => <span className="sr-only">Take in</span>,
        accessorFn: () => "",
        cell: (c: Cell) => (
          <Button
            small
            look="plain"
            onClick={() => set({ machines: including(selection, c.row.original.machine) })}
          >
            Take in
          </Button>
        ),
      },
    ];
  }, [set, value]);
  if (!look) return null;
  return (
    <>
      <p className="pb-1 text-ink-2">{look.joins}</p>
      {leaving && (
        <div className="max-w-md">
          <LeaveOutForm
            key={leaving}
            machine={leaving}
            known={[leaving]}
            onCancel={() => setLeaving(null)}
            onLeaveOut={(why) => {
              set(leavingOut(value, why));
              setLeaving(null);
            }}
          />
        </div>
      )}
      {look.selected.length > 0 ? (
        <Table
          caption="Machines of the job"
          rows={look.selected}
          columns={selected}
          idOf={(m) => m.machine}
        />
      ) : (
        <p>Nothing is selected yet: open “Back up” and add a rule, or take machines in by name.</p>
      )}
      {look.machines > look.selected.length && (
        <p className="text-ink-2">
          and {count(look.machines - look.selected.length, "machine")} more
        </p>
      )}
      {look.near.length > 0 && (
        <section aria-label="Nearly selected" className="mt-4">
          <h2 className="font-semibold">{count(look.near_count, "machine")} nearly</h2>
          <Table
            caption="Machines that one thing keeps out"
            rows={look.near}
            columns={near}
            idOf={(m) => m.machine}
          />
        </section>
      )}
    </>
  );
}
