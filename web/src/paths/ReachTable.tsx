import { TableFiles } from "../ui/TableFiles";
import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { useDiscardOnLeave } from "../workbench/considering";
import { useWorkbench } from "../workbench/store";
import { Button } from "../ui/Button";
import { Choice } from "../ui/Choice";
import { useRoving } from "../ui/roving";
import { Sheet } from "../ui/Sheet";
import { count, gib } from "../ui/words";
import {
  change,
  type GroupBy,
  type Item,
  type Reach,
  reachQuery,
  whyQuery,
} from "../api/pathQueries";

const SAID: Record<string, string> = { direct: "direct", hot_add: "hot-add", network: "network" };
const MARKS: Record<string, string> = { direct: "●", hot_add: "◐", network: "○" };
const ALL = "every site";
/** With more proxies than these, those of one site are shown first. */
const MANY = 16;
type Cell = Reach["rows"][number]["cells"][number];

/** Groups of machines against proxies: by which transport each could read them, and who does. */
export function ReachTable({ proxies }: { proxies: readonly Item[] }) {
  const { plan, draft } = useWorkbench();
  const [by, setBy] = useState<GroupBy>("host");
  const [opened, setOpened] = useState<{ group: string; cell: Cell } | null>(null);
  const siteOf = new Map(proxies.map((proxy) => [proxy.id, String(proxy.value["site"])]));
  const sites = [...new Set(siteOf.values())];
  const [site, setSite] = useState(proxies.length > MANY ? (sites[0] ?? ALL) : ALL);
  const reach = useQuery({
    ...reachQuery(plan, draft, by),
    placeholderData: (before) => before,
  });
  const roving = useRoving<HTMLTableElement>();
  const here = (proxy: string) => site === ALL || siteOf.get(proxy) === site;
  return (
    <div className="flex min-h-0 flex-1 narrow:flex-col">
      <div className="flex min-w-0 flex-1 flex-col">
        <p className="flex items-center gap-4 px-4 pb-1">
          <Choice
            lead="Machines by"
            value={by}
            options={["host", "datastore", "tag"].map((v) => ({ value: v, label: v }))}
            onChange={(v) => {
              setBy(v as GroupBy);
              setOpened(null);
            }}
          />
          {sites.length > 1 && (
            <Choice
              lead="Proxies at"
              value={site}
              options={[ALL, ...sites].map((v) => ({ value: v, label: v }))}
              onChange={setSite}
            />
          )}
          <span className="text-xs text-ink-2">
            ● direct ◐ hot-add ○ network; <strong className="text-ink">bold</strong>: some job may
            have it read there
          </span>
          <TableFiles
            of={`plans/${plan.id}/tables/reach`}
            what="Reach"
            query={{ by, draft: draft?.id }}
          />
        </p>
        {reach.error && (
          <p role="alert" className="px-4">
            {reach.error.message}
          </p>
        )}
        {!reach.data && !reach.error && (
          <p role="status" className="px-4">
            Finding the ways …
          </p>
        )}
        {reach.data && (
          <div
            tabIndex={0}
            role="region"
            aria-label="Reach"
            className="min-h-0 flex-1 overflow-auto px-4"
          >
            <table ref={roving} role="table" className="reflows border-collapse">
              <caption className="sr-only">
                Which proxy reaches which machines, by which transport
              </caption>
              <thead className="sticky top-0 bg-ground">
                <tr className="border-b border-rule-strong">
                  <th scope="col" className="py-1 pr-4 text-left font-medium text-ink-2">
                    {by}
                  </th>
                  <th scope="col" className="pr-4 text-right font-medium text-ink-2">
                    Machines
                  </th>
                  <th scope="col" className="pr-4 text-right font-medium text-ink-2">
                    Used
                  </th>
                  {reach.data.proxies.filter(here).map((proxy) => (
                    <th key={proxy} scope="col" className="px-2 text-left font-medium text-ink-2">
                      {proxy}
                    </th>
                  ))}
                </tr>
              </thead>
              <tbody>
                {reach.data.rows.map((row) => (
                  <tr key={row.name} className="border-b border-rule">
                    <th scope="row" className="py-0.5 pr-4 text-left font-medium">
                      {row.name}
                    </th>
                    <td data-label="Machines" className="pr-4 text-right">
                      {row.machines}
                    </td>
                    <td data-label="Used" className="pr-4 text-right whitespace-nowrap">
                      {gib(row.used_gib)}
                    </td>
                    {row.cells
                      .filter((cell) => here(cell.proxy))
                      .map((cell) => {
                        const parts = Object.keys(cell.disks);
                        const used = cell.jobs.length > 0;
                        return (
                          <td key={cell.proxy} data-label={cell.proxy} className="px-0.5">
                            <button
                              type="button"
                              aria-pressed={
                                opened?.group === row.name && opened.cell.proxy === cell.proxy
                              }
                              onClick={() => setOpened({ group: row.name, cell })}
                              className={`h-6 w-full rounded-[3px] px-1.5 text-left whitespace-nowrap hover:bg-closed aria-pressed:bg-closed aria-pressed:outline aria-pressed:outline-rule-strong ${used ? "font-semibold" : "text-ink-2"}`}
                            >
                              <span className="sr-only">
                                {row.name}, {cell.proxy}:{" "}
                              </span>
                              {cell.best ? (
                                <>
                                  <span aria-hidden>{MARKS[cell.best]} </span>
                                  {SAID[cell.best]}
                                </>
                              ) : (
                                "no way"
                              )}
                              {parts.length > 1 && ` +${parts.length - 1}`}
                              {used && (
                                <span className="sr-only">
                                  , may be used by {count(cell.jobs.length, "job")}
                                </span>
                              )}
                            </button>
                          </td>
                        );
                      })}
                  </tr>
                ))}
              </tbody>
            </table>
            {reach.data.rows.length === 0 && (
              <p>This plan has no VMs yet; they come with the estate.</p>
            )}
          </div>
        )}
      </div>
      {opened && (
        <WhySheet
          key={`${by} ${opened.group} ${opened.cell.proxy}`}
          by={by}
          group={opened.group}
          cell={opened.cell}
          onClose={() => setOpened(null)}
        />
      )}
    </div>
  );
}

/** Why a proxy reads a group as it does, and pins with their effect. */
function WhySheet({
  by,
  group,
  cell,
  onClose,
}: {
  by: GroupBy;
  group: string;
  cell: Cell;
  onClose: () => void;
}) {
  const { plan, draft, jobs, consider, considered, put, busy } = useWorkbench();
  const why = useQuery(whyQuery(plan, draft, by, group, cell.proxy));
  useDiscardOnLeave();
  const pinned = why.data?.reasons.some((reason) => reason.pinned) ?? false;
  return (
    <Sheet label="Why this way" title={`${group} by ${cell.proxy}`} onClose={onClose}>
      {why.error && <p role="alert">{why.error.message}</p>}
      {why.data?.reasons.slice(0, 12).map((reason) => (
        <section key={reason.host + reason.datastore} className="mb-2">
          <h3 className="font-medium">
            {count(reason.disks, "disk")} of {reason.host} on {reason.datastore}:{" "}
            {reason.pinned ? "not used" : reason.transport ? SAID[reason.transport] : "no way"}
          </h3>
          <ul className="text-ink-2">
            {reason.why.map((line) => (
              <li key={line}>{line}</li>
            ))}
          </ul>
        </section>
      ))}
      {(why.data?.reasons.length ?? 0) > 12 && (
        <p className="text-ink-2">and {(why.data?.reasons.length ?? 0) - 12} more</p>
      )}

      <h3 className="mt-3 font-semibold">Pins</h3>
      {by === "host" && (
        <p className="flex flex-wrap gap-1">
          <Button
            small
            onClick={() => consider([change("hosts", group, { proxies: [cell.proxy] })])}
          >
            Pin {group} to {cell.proxy}
          </Button>
          <Button small onClick={() => consider([change("hosts", group, { proxies: null })])}>
            Let any proxy read {group}
          </Button>
        </p>
      )}
      {pinned && by !== "host" && (
        <p className="text-ink-2">Pins of hosts are set in the table by host.</p>
      )}
      {cell.jobs.map((id) => (
        <p key={id} className="mt-1 flex flex-wrap items-center gap-1">
          <span className="flex-1">{jobs.get(id)?.name ?? id}</span>
          <Button
            small
            disabled={jobs.get(id)?.locked}
            onClick={() => consider([{ operation: "SetProxies", job: id, proxies: [cell.proxy] }])}
          >
            Only {cell.proxy}
          </Button>
          <Button
            small
            disabled={jobs.get(id)?.locked}
            onClick={() => consider([{ operation: "SetProxies", job: id, proxies: null }])}
          >
            Any proxy
          </Button>
        </p>
      ))}
      {cell.jobs.length === 0 && by !== "host" && (
        <p className="text-ink-2">No job has {cell.proxy} read these machines.</p>
      )}
      {considered.length > 0 && (
        <p className="mt-3 flex items-center gap-2">
          <Button look="strong" disabled={busy === "saving"} onClick={() => put([...considered])}>
            Add to draft
          </Button>
          <Button look="plain" onClick={() => consider([])}>
            Discard
          </Button>
        </p>
      )}
      {considered.length > 0 && (
        <p className="mt-1 text-ink-2">The week above shows the plan with it.</p>
      )}
    </Sheet>
  );
}
