import type { ComesBack, Recovery, Way } from "../api/recoveryQueries";
import { dateClock, dayClock, duration } from "../time/time";
import { Button } from "../ui/Button";
import { Choice } from "../ui/Choice";
import { Sheet } from "../ui/Sheet";
import { bytes, count } from "../ui/words";
import { useWorkbench } from "../workbench/store";
import { OUTCOMES, reordered } from "./asked";
import { toggled } from "./ReturnLanes";

/** All about one machine on its way back, and what can be changed of it. */
export function MachineBack({
  row,
  recovery,
  way,
  onWay,
  onClose,
}: {
  row: ComesBack;
  recovery: Recovery;
  way: Way;
  onWay: (changes: Partial<Way>) => void;
  onClose: () => void;
}) {
  const { plan } = useWorkbench();
  const zone = recovery.time_zone;
  const move = (by: number) => onWay({ order: reordered(recovery.machines, row.machine, by) });
  const job = row.point && (plan.jobs.find((each) => each.id === row.point!.job)?.name ?? "");
  const lines: [string, string | null][] = [
    ["Back", row.back ? dayClock(row.back, zone) : OUTCOMES[row.outcome]],
    ["Promised by", row.promised_by && dayClock(row.promised_by, zone)],
    ["Late", row.late_s ? duration(row.late_s) : null],
    [
      "From the point of",
      row.point && `${dateClock(row.point.at, zone)}, ${job}, in ${row.point.repository}`,
    ],
    ["Chain", row.points === null ? null : count(row.points, "point")],
    ["Work lost", row.exposure_s === null ? null : duration(row.exposure_s)],
    ["Starts", row.start && dayClock(row.start, zone)],
    ["Set up", row.ready && dayClock(row.ready, zone)],
    ["Whole", row.whole && dayClock(row.whole, zone)],
    ["Read", row.read_bytes === null ? null : bytes(row.read_bytes)],
    ["Written", row.written_bytes === null ? null : bytes(row.written_bytes)],
    [
      "Limited by",
      row.limited_by && row.limited_s ? `${row.limited_by} for ${duration(row.limited_s)}` : null,
    ],
  ];
  return (
    <Sheet label={`${row.machine} on its way back`} title={row.machine} onClose={onClose}>
      <dl className="grid grid-cols-[110px_1fr] gap-y-0.5">
        {lines.map(
          ([name, value]) =>
            value && (
              <div key={name} className="contents">
                <dt className="text-ink-2">{name}</dt>
                <dd className={name === "Late" ? "text-barn" : ""}>{value}</dd>
              </div>
            ),
        )}
      </dl>
      {row.rpo_met === false && (
        <p className="pt-1 text-barn">More work is lost than was promised (RPO).</p>
      )}
      <p className="flex flex-wrap gap-1 pt-3">
        <Button small onClick={() => move(-1)}>
          Earlier
        </Button>
        <Button small onClick={() => move(1)}>
          Later
        </Button>
        <Button small onClick={() => move(-recovery.machines.length)}>
          First of its tier
        </Button>
        <Button
          small
          aria-pressed={row.method === "instant"}
          onClick={() => onWay({ instant: toggled(way.instant ?? [], row.machine) })}
        >
          {row.method === "instant" ? "Written in full first" : "Instant start"}
        </Button>
      </p>
      <div className="-ml-1.5 pt-1">
        <Choice
          lead="to"
          value={way.targets?.[row.machine] ?? ""}
          options={[
            { value: "", label: row.target ? `${row.target} (as it fits)` : "where it was" },
            ...recovery.hosts_left.map((host) => ({ value: host, label: host })),
          ]}
          onChange={(host) => {
            const others = Object.entries(way.targets ?? {}).filter(
              ([name]) => name !== row.machine,
            );
            onWay({
              targets: Object.fromEntries(host ? [...others, [row.machine, host]] : others),
            });
          }}
        />
      </div>
      {row.as_vm && (
        <p className="text-ink-2">
          A server that comes back on a host is a VM there: it is written as fast as a VM is.
        </p>
      )}
    </Sheet>
  );
}
