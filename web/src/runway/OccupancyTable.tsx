import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { type Grouping, occupancyFile, occupancyQuery, type Occupied } from "../api/runwayQueries";
import { longDate } from "../time/time";
import { Choice } from "../ui/Choice";
import { Flag } from "../ui/controls";
import { Field } from "../ui/Field";
import { Table } from "../ui/Table";
import { bytes, money } from "../ui/words";
import { useAddress } from "../workbench/address";
import { useWorkbench } from "../workbench/store";
import { useMeant } from "./meant";

const GROUPINGS: readonly { value: Grouping; label: string }[] = [
  { value: "folder", label: "folder" },
  { value: "tag", label: "tag" },
  { value: "owner", label: "owner" },
  { value: "tier", label: "tier of protection" },
  { value: "role", label: "role" },
  { value: "kind", label: "kind" },
  { value: "site", label: "site" },
  { value: "cluster", label: "cluster" },
  { value: "job", label: "job" },
  { value: "repository", label: "repository" },
  { value: "machine", label: "machine" },
];

const titleOf = (by: Grouping) => by[0]!.toUpperCase() + by.slice(1);

/** Who takes how much on a day, for licences and charging. */
export function OccupancyTable() {
  const { plan, draft } = useWorkbench();
  const { search, set } = useAddress();
  const { ahead } = useMeant();
  const [overMonths, setOverMonths] = useState(false);
  const by = (GROUPINGS.find((each) => each.value === search.get("by"))?.value ??
    "folder") as Grouping;
  const day = search.get("day");
  const found = useQuery(occupancyQuery(plan, draft, ahead, by, day));
  const told = found.data;
  const rows: Occupied[] = told ? [...told.groups, { ...told.total, group: "all together" }] : [];
  const size = (
    key: "provisioned_bytes" | "used_bytes" | "read_bytes" | "stored_bytes" | "copies_bytes",
    header: string,
  ) => ({
    id: key,
    header,
    accessorKey: key,
    meta: { right: true },
    cell: ({ row }: { row: { original: Occupied } }) => bytes(row.original[key]),
  });
  return (
    <main className="min-h-0 flex-1 overflow-y-auto px-4 pb-4" aria-label="Occupancy">
      <h1 className="sr-only">Runway: Occupancy</h1>
      <div className="flex flex-wrap items-end gap-3 pt-1">
        <Choice
          lead="By"
          value={by}
          options={GROUPINGS}
          onChange={(value) => set({ by: value === "folder" ? null : value })}
        />
        <div className="w-40">
          <Field
            label="On"
            type="date"
            value={day ?? told?.day ?? ""}
            min={plan.first_night}
            onChange={(event) => set({ day: event.target.value || null })}
          />
        </div>
        <span className="flex-1" />
        <Flag
          label="files with the first of every month"
          value={overMonths}
          onChange={setOverMonths}
        />
        {(["csv", "xlsx"] as const).map((ending) => (
          <a
            key={ending}
            className="mb-2 inline-flex h-7 items-center rounded-[3px] border border-rule-strong bg-surface px-2 hover:bg-closed"
            href={occupancyFile(plan.id, draft, ahead, by, day, ending, overMonths)}
            download
          >
            {ending === "csv" ? "CSV" : "Workbook"}
          </a>
        ))}
      </div>
      {found.error && (
        <p role="alert" className="text-barn">
          {found.error.message}
        </p>
      )}
      {!told && !found.error && <p role="status">Counting …</p>}
      {told && (
        <>
          <p className="pb-1 text-ink-2" role="status">
            As it is forecast for {longDate(told.day)}
            {told.day === plan.first_night ? ", from the points that exist" : ""}. What was read is
            that of the four weeks before it. What points cost is for a month, at the prices of the
            repositories.
          </p>
          <Table
            caption="Who takes how much"
            rows={rows}
            idOf={(row) => row.group}
            columns={[
              {
                id: "group",
                header: titleOf(by),
                accessorKey: "group",
                cell: ({ row }) =>
                  row.original.group === "all together" ? (
                    <b>{row.original.group}</b>
                  ) : (
                    row.original.group
                  ),
              },
              {
                id: "machines",
                header: "Machines",
                accessorKey: "machines",
                meta: { right: true },
                cell: ({ row }) =>
                  row.original.machines === row.original.protected
                    ? row.original.machines
                    : `${row.original.machines}, ${row.original.protected} in a job`,
              },
              size("provisioned_bytes", "Provisioned"),
              size("used_bytes", "Used"),
              size("read_bytes", "Read"),
              size("stored_bytes", "Stored"),
              size("copies_bytes", "Copies"),
              {
                id: "cost",
                header: "Cost a month",
                accessorKey: "cost",
                meta: { right: true },
                cell: ({ row }) => (row.original.cost === null ? "–" : money(row.original.cost)),
              },
            ]}
          />
          {by === "tag" && (
            <p className="pt-1 text-xs text-ink-2">
              A machine with several tags is in several groups, and once in all together.
            </p>
          )}
        </>
      )}
    </main>
  );
}
