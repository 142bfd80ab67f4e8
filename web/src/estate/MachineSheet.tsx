import { Allowed } from "../workbench/Allowed";
import { ProblemLines } from "./ProblemLines";
import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { Link } from "react-router";
import { useJobLinks } from "../workbench/links";
import { useWorkbench } from "../workbench/store";
import { dayClock, duration, longDate } from "../time/time";
import { Button } from "../ui/Button";
import { Choice } from "../ui/Choice";
import { Field } from "../ui/Field";
import { typedNumber } from "../ui/numbers";
import { Sheet } from "../ui/Sheet";
import { bytes, count, gib, percent } from "../ui/words";
import { LeaveOut } from "./LeaveOut";
import { FactsForm } from "./FactsSheet";
import { editFacts, factEdit, type Machine, machineQuery } from "../api/estateQueries";
import { useEstateChange } from "./useEstateChange";
import { CHANGE_FROM, COVERAGE_MARKS, since } from "./words";

/** All that is known of a machine, and what can be done about it. */
export function MachineSheet({
  name,
  on,
  onClose,
  onFilter,
}: {
  name: string;
  on: string;
  onClose: () => void;
  onFilter: (pair: string) => void;
}) {
  const { plan, draft, date } = useWorkbench();
  const answer = useQuery(machineQuery(plan, draft, name, date));
  const machine = answer.data;
  return (
    <Sheet label={`Machine ${name}`} title={name} onClose={onClose}>
      {answer.error && <p role="alert">{answer.error.message}</p>}
      {!machine && !answer.error && <p role="status">Looking it up …</p>}
      {machine && <Body machine={machine} on={on} onFilter={onFilter} />}
    </Sheet>
  );
}

function Body({
  machine,
  on,
  onFilter,
}: {
  machine: Machine;
  on: string;
  onFilter: (pair: string) => void;
}) {
  const { plan } = useWorkbench();
  const [editing, setEditing] = useState(false);
  const { run, busy, problem } = useEstateChange();
  const zone = plan.time_zone;
  const { mark, tone } = COVERAGE_MARKS[machine.coverage] ?? { mark: "", tone: "" };
  const place: [string, string][] = [];
  if (machine.host) place.push(["host", machine.host]);
  if (machine.cluster) place.push(["cluster", machine.cluster]);
  place.push(["site", machine.site]);
  if (machine.folder) place.push(["folder", machine.folder]);
  if (machine.role) place.push(["role", machine.role]);
  return (
    <>
      <p className="mb-2 text-ink-2">
        {machine.kind === "vm" ? "VM" : "Physical server"}
        {!machine.powered_on && ", switched off"}
        {machine.source && `, from ${machine.source}`}
        {machine.known_since && `, known since ${longDate(machine.known_since)}`}
      </p>
      <p className="mb-3 flex flex-wrap gap-1">
        {place.map(([field, value]) => (
          <Button
            small
            key={field}
            look="outlined"
            title="Show those alike"
            onClick={() => onFilter(`${field}:${value}`)}
          >
            <span className="text-ink-2">{field}</span> {value}
          </Button>
        ))}
      </p>

      <h3 className="font-semibold">
        <span className={tone}>
          <span aria-hidden>{mark}</span> {machine.coverage}
        </span>
      </h3>
      {machine.coverage !== "protected" && machine.coverage !== "twice" && (
        <p>
          {machine.coverage_words}
          {machine.since && machine.coverage !== "left out" && ` (${since(machine.since, on)})`}
          {machine.left_out?.review &&
            `; to be looked at again on ${longDate(machine.left_out.review)}`}
        </p>
      )}
      <ul className="mb-1">
        {machine.protected_by.map((by) => (
          <li key={by.job} className="py-0.5">
            <strong>{by.name}</strong>: {by.how}
            <span className="block text-ink-2">
              {count(by.points, "point")}
              {by.newest && `, the newest of ${dayClock(by.newest, zone)}`}
            </span>
          </li>
        ))}
      </ul>
      {machine.worst_exposure_s !== null && (
        <p className="mb-1">
          At worst{" "}
          <strong>
            {machine.worst_exposure_s > 14 * 86400
              ? `${Math.round(machine.worst_exposure_s / 86400)} days`
              : duration(machine.worst_exposure_s)}
          </strong>{" "}
          of work would be lost this week
          {machine.rpo_hours !== null && ` (RPO ${machine.rpo_hours} h)`}.
        </p>
      )}
      {machine.coverage !== "gone" && <AddToJob machine={machine} />}
      {machine.coverage === "not protected" && <LeaveOut machines={[machine.name]} />}
      {machine.left_out && (
        <p className="mb-2">
          <Allowed>
            <Button
              disabled={busy}
              onClick={() =>
                void run(() => editFacts(plan.id, factEdit([machine.name], { take_in: true })))
              }
            >
              No longer leave it out
            </Button>
          </Allowed>
        </p>
      )}
      <ProblemLines problem={problem} />

      {machine.hazards.length > 0 && (
        <>
          <h3 className="mt-3 font-semibold">Hazards</h3>
          <ul className="list-disc pl-4">
            {machine.hazards.map((hazard) => (
              <li key={hazard.words}>{hazard.words}</li>
            ))}
          </ul>
        </>
      )}

      <h3 className="mt-3 font-semibold">{count(machine.disks, "disk")}</h3>
      <ul>
        {machine.disk_list.map((disk) => (
          <li key={disk.id} className="py-0.5">
            <span className="font-medium">{disk.id}</span>
            {disk.datastore && <span className="text-ink-2"> on {disk.datastore}</span>}
            <span aria-hidden className="my-0.5 flex h-2 w-full border border-rule-strong">
              <span
                className="bg-slate"
                style={{
                  width: `${(100 * (disk.used_gib - disk.swap_gib)) / disk.provisioned_gib}%`,
                }}
              />
              <span
                className="bg-ochre"
                style={{ width: `${(100 * disk.swap_gib) / disk.provisioned_gib}%` }}
              />
            </span>
            <span className="block text-ink-2">
              {gib(disk.used_gib)} used of {gib(disk.provisioned_gib)}
              {disk.swap_gib > 0 && `, ${gib(disk.swap_gib)} of it swap`}, {gib(disk.unused_gib)}{" "}
              unused
              {disk.holds_backups && ", holds backups"}
              {disk.left_out_by.length > 0 && `, left out by ${disk.left_out_by.join(", ")}`}
            </span>
            <Was
              machine={machine}
              fact={`${disk.id}/provisioned_gib`}
              show={(v) => `${gib(v)} provisioned`}
            />
            <Was machine={machine} fact={`${disk.id}/used_gib`} show={(v) => `${gib(v)} used`} />
            <Was machine={machine} fact={`${disk.id}/swap_gib`} show={(v) => `${gib(v)} swap`} />
            <Was
              machine={machine}
              fact={`${disk.id}/holds_backups`}
              show={(v) => (v ? "holds backups" : "holds no backups")}
            />
          </li>
        ))}
      </ul>

      <h3 className="mt-3 flex items-center gap-2 font-semibold">
        Facts
        <Allowed>
          <Button
            small
            look="plain"
            className="font-normal underline"
            aria-expanded={editing}
            onClick={() => setEditing(!editing)}
          >
            {editing ? "Close" : "Edit"}
          </Button>
        </Allowed>
      </h3>
      {editing ? (
        <FactsForm machines={[machine.name]} before={machine} onDone={() => setEditing(false)} />
      ) : (
        <dl className="grid grid-cols-[auto_1fr] gap-x-2.5">
          <dt className="text-ink-2">Changes</dt>
          <dd>
            {(machine.daily_change * 100).toFixed(1)} % a day (
            {gib(machine.used_gib * machine.daily_change)}), {CHANGE_FROM[machine.change_from]}
            <Was machine={machine} fact="daily_change" show={(v) => `${(v * 100).toFixed(1)} %`} />
          </dd>
          <dt className="text-ink-2">Levels off at</dt>
          <dd>
            {percent(machine.churn_ceiling)} of what is used
            <Was machine={machine} fact="churn_ceiling" show={percent} />
          </dd>
          <dt className="text-ink-2">Compresses</dt>
          <dd>
            {machine.compress_ratio} : 1
            <Was machine={machine} fact="compress_ratio" show={(v) => `${v} : 1`} />
          </dd>
          <dt className="text-ink-2">Grows</dt>
          <dd>
            {percent(machine.growth_per_year)} a year
            <Was machine={machine} fact="growth_per_year" show={percent} />
          </dd>
          <dt className="text-ink-2">RPO, RTO</dt>
          <dd>
            {machine.rpo_hours === null ? "none" : `${machine.rpo_hours} h`},{" "}
            {machine.rto_hours === null ? "none" : `${machine.rto_hours} h`}
            <Was machine={machine} fact="rpo_hours" show={(v) => `RPO ${v} h`} />
            <Was machine={machine} fact="rto_hours" show={(v) => `RTO ${v} h`} />
          </dd>
          <dt className="text-ink-2">Memory</dt>
          <dd>
            {machine.memory_gib === null ? "not known" : `${machine.memory_gib} GiB`}
            <Was machine={machine} fact="memory_gib" show={(v) => `${v} GiB`} />
          </dd>
          <dt className="text-ink-2">Role</dt>
          <dd>
            {machine.role || "not stated"}
            <Was machine={machine} fact="role" show={(v) => String(v) || "not stated"} />
          </dd>
          <dt className="text-ink-2">Owner</dt>
          <dd>
            {machine.owner || "not stated"}
            <Was machine={machine} fact="owner" show={(v) => String(v) || "not stated"} />
          </dd>
          <dt className="text-ink-2">Quiesces</dt>
          <dd>
            {machine.quiesces ? "yes" : "cannot be quiesced"}
            <Was machine={machine} fact="quiesces" show={(v) => (v ? "yes" : "no")} />
          </dd>
          {machine.kind === "server" && (
            <>
              <dt className="text-ink-2">Network</dt>
              <dd>
                {machine.nic_mbit_per_s === null ? "no limit" : `${machine.nic_mbit_per_s} Mbit/s`},{" "}
                {count(machine.agent_streams ?? 0, "stream")} of its agent
                <Was machine={machine} fact="nic_mbit_per_s" show={(v) => `${v} Mbit/s`} />
                <Was machine={machine} fact="agent_streams" show={(v) => count(v, "stream")} />
              </dd>
              {machine.backup_network && (
                <>
                  <dt className="text-ink-2">Backs up by</dt>
                  <dd>
                    its second NIC, in the network {machine.backup_network},{" "}
                    {machine.backup_nic_mbit_per_s === null
                      ? "no limit"
                      : `${machine.backup_nic_mbit_per_s} Mbit/s`}
                  </dd>
                </>
              )}
            </>
          )}
        </dl>
      )}

      {machine.kind === "vm" && <Snapshots machine={machine} />}

      <h3 className="mt-3 font-semibold">Runs this week</h3>
      {machine.next_runs.length === 0 && <p className="text-ink-2">None.</p>}
      <ul>
        {machine.next_runs.slice(0, 12).map((r) => (
          <li key={r.job + r.occurrence} className="flex gap-2">
            <span className="w-20 shrink-0">{dayClock(r.start ?? r.occurrence, zone)}</span>
            <span className="flex-1">
              {r.kind ?? "not started"}{" "}
              {r.outcome !== "done" && <strong className="text-barn">{r.outcome}</strong>}
              <span className="text-ink-2"> {r.job}</span>
            </span>
            <span>{bytes(r.source_bytes)}</span>
          </li>
        ))}
      </ul>
      {machine.next_runs.length > 12 && (
        <p className="text-ink-2">and {machine.next_runs.length - 12} more</p>
      )}
    </>
  );
}

function Was({
  machine,
  fact,
  show,
}: {
  machine: Machine;
  fact: string;
  show: (value: number) => string;
}) {
  const { plan } = useWorkbench();
  const { run, busy } = useEstateChange();
  const before = (machine.reported as Record<string, number | null>)[fact];
  if (before === undefined) return null;
  return (
    <span className="block text-ink-2">
      ✎ was {before === null ? "none" : show(before)}{" "}
      <button
        type="button"
        disabled={busy}
        className="underline underline-offset-2"
        onClick={() =>
          void run(() => editFacts(plan.id, factEdit([machine.name], { revert: [fact] })))
        }
      >
        bring back
      </button>
    </span>
  );
}

/** Snapshots that somebody took by hand: those known, one more, one gone. */
function Snapshots({ machine }: { machine: Machine }) {
  const { plan, date } = useWorkbench();
  const { run, busy, problem } = useEstateChange();
  const [name, setName] = useState<string | null>(null);
  const [taken, setTaken] = useState(date);
  const [size, setSize] = useState("");
  const gibs = size ? typedNumber(size) : 0;
  const state = (snapshots: Machine["snapshots"]) =>
    run(() => editFacts(plan.id, factEdit([machine.name], { snapshots })));
  return (
    <section aria-label="Snapshots taken by hand">
      <h3 className="mt-3 flex items-center gap-2 font-semibold">
        Snapshots taken by hand
        <Allowed>
          <Button
            small
            look="plain"
            className="font-normal underline"
            aria-expanded={name !== null}
            onClick={() => setName(name === null ? "" : null)}
          >
            {name === null ? "Add" : "Close"}
          </Button>
        </Allowed>
      </h3>
      {machine.snapshots.length === 0 && name === null && <p className="text-ink-2">None known.</p>}
      <ul>
        {machine.snapshots.map((shot) => (
          <li key={shot.name + shot.taken_at}>
            {shot.name}, {longDate(shot.taken_at.slice(0, 10))}, {gib(shot.gib)}{" "}
            <button
              type="button"
              disabled={busy}
              className="underline underline-offset-2"
              aria-label={`Remove snapshot ${shot.name}`}
              onClick={() => void state(machine.snapshots.filter((each) => each !== shot))}
            >
              remove
            </button>
          </li>
        ))}
      </ul>
      {name !== null && (
        <form
          className="mt-1"
          onSubmit={(event) => {
            event.preventDefault();
            if (!name.trim() || Number.isNaN(gibs)) return;
            const made = { name: name.trim(), taken_at: `${taken}T12:00:00Z`, gib: gibs };
            void state([...machine.snapshots, made]).then((done) => done && setName(null));
          }}
        >
          <Field
            label="Name of the snapshot"
            autoFocus
            value={name}
            onChange={(event) => setName(event.target.value)}
          />
          <Field
            label="Taken on"
            type="date"
            value={taken}
            onChange={(event) => setTaken(event.target.value)}
          />
          <Field
            label="Size (GiB)"
            inputMode="decimal"
            value={size}
            wrong={Number.isNaN(gibs) ? "is not a number" : null}
            onChange={(event) => setSize(event.target.value)}
          />
          <Button type="submit" disabled={busy || !name.trim() || Number.isNaN(gibs)}>
            Add snapshot
          </Button>
        </form>
      )}
      <ProblemLines problem={problem} />
    </section>
  );
}

/** One step from "not protected" into a job: the effect on the week shows before it is kept. */
function AddToJob({ machine }: { machine: Machine }) {
  const { tryOut, tried, put, busy, draft } = useWorkbench();
  const links = useJobLinks();
  const [job, setJob] = useState<string | null>(null);
  const offers = machine.offers.filter((offer) => !machine.jobs.includes(offer.job));
  const best = offers[0];
  if (!best) return null;
  const chosen = job ?? best.job;
  const operations = [{ operation: "IncludeMachine", job: chosen, machine: machine.name }];
  const mine = tried?.key === `${chosen}/${machine.name}`;
  return (
    <div className="my-2">
      <div className="flex flex-wrap items-center gap-1">
        <Choice
          lead={machine.jobs.length ? "Also add to" : "Add to"}
          value={chosen}
          options={offers.map((offer) => ({
            value: offer.job,
            label: offer.alike
              ? `${offer.name} (${count(offer.alike, "machine")} alike)`
              : offer.name,
          }))}
          onChange={setJob}
        />
        <Button
          disabled={busy !== null}
          onClick={() => tryOut(`${chosen}/${machine.name}`, operations)}
        >
          See the week
        </Button>
        <Button look="strong" disabled={busy !== null} onClick={() => put(operations)}>
          Add to draft
        </Button>
        <Link className="underline underline-offset-2" to={links.fresh([machine.name])}>
          or a job of its own
        </Link>
      </div>
      {mine && (
        <p role="status" className="mt-1">
          {tried.lines.length
            ? tried.lines.map((line) => (
                <span key={line} className="block">
                  {line}
                </span>
              ))
            : "No night of this week ends later."}
        </p>
      )}
      {draft && <p className="text-ink-2">It joins the open draft; nothing is adopted yet.</p>}
    </div>
  );
}
