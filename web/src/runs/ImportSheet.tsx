import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { importPastRuns, type PastRunsFound } from "../api/runQueries";
import { Button } from "../ui/Button";
import { Flag, Pick } from "../ui/controls";
import { Field } from "../ui/Field";
import { Sheet } from "../ui/Sheet";
import { bytes, count } from "../ui/words";

const NAMES: Record<string, string> = {
  job: "Job",
  machine: "Machine",
  start: "Start",
  end: "End",
  duration: "Duration",
  kind: "Kind",
  source_bytes: "Data read",
  stored_bytes: "Data written",
  outcome: "Outcome",
  reason: "Reason",
};

const UNITS = ["GiB", "GB", "MiB", "MB", "TiB", "TB", "KiB", "bytes"] as const;

/** Past runs from a file: what it comes to is shown first, then it is written as a whole. */
export function ImportSheet(props: {
  plan: number;
  zone: string;
  jobs: readonly { id: string; name: string }[];
  onClose: () => void;
}) {
  const { plan, zone, jobs, onClose } = props;
  const client = useQueryClient();
  const [file, setFile] = useState<{ name: string; text: string } | null>(null);
  const [columns, setColumns] = useState<Record<string, string> | null>(null);
  const [unit, setUnit] = useState<(typeof UNITS)[number]>("GiB");
  const [order, setOrder] = useState<"day first" | "month first">("day first");
  const [timeZone, setTimeZone] = useState(zone);
  const [mappedJobs, setMappedJobs] = useState<Record<string, string>>({});
  const [mappedMachines, setMappedMachines] = useState<Record<string, string>>({});
  const [onlyGood, setOnlyGood] = useState(false);
  // What was answered holds for a file as it was read then; in another unit it is asked anew.
  const [askedAgain, setAskedAgain] = useState(false);
  const [answered, setAnswered] = useState<{ steps: number; of: string } | null>(null);
  const readAs = JSON.stringify([file?.name, columns, unit]);
  const steps = answered?.of === readAs ? answered.steps : null;
  const body = {
    name: file?.name ?? "file",
    text: file?.text ?? "",
    columns,
    unit,
    time_zone: timeZone,
    date_order: order,
    jobs: mappedJobs,
    machines: mappedMachines,
    size_steps: steps,
    only_good: onlyGood,
    write: false,
  };
  const look = useQuery({
    queryKey: ["plan", plan, "past runs", body],
    queryFn: () => importPastRuns(plan, body),
    enabled: file !== null,
    placeholderData: (before) => before,
    gcTime: 0,
  });
  const write = useMutation({
    mutationFn: () => importPastRuns(plan, { ...body, write: true }),
    onSuccess: () => client.invalidateQueries({ queryKey: ["plan", plan] }),
  });
  const found = look.data;
  const open = found
    ? found.problems_in_all +
      Object.keys(found.unknown_jobs).length +
      Object.keys(found.unknown_machines).length
    : 0;
  return (
    <Sheet label="Import past runs" title="Import past runs" onClose={onClose}>
      <p className="pb-2 text-ink-2">
        A CSV file, or JSON lines of another ledger. Nothing is written before you have seen what it
        comes to; what the ledger has stays as it is.
      </p>
      <input
        type="file"
        aria-label="File of past runs"
        accept=".csv,.txt,.jsonl,.ndjson"
        className="mb-2 w-full"
        onChange={(event) => {
          const chosen = event.target.files?.[0];
          setColumns(null);
          write.reset();
          if (chosen) void chosen.text().then((text) => setFile({ name: chosen.name, text }));
        }}
      />
      {look.error && <p role="alert">{look.error.message}</p>}
      {found && found.header.length > 0 && (
        <fieldset className="border-t border-rule pt-2">
          <legend className="font-semibold">Columns</legend>
          {found.fields.map((field) => (
            <Pick
              key={field}
              label={NAMES[field] ?? field}
              value={String(found.columns[field] ?? "")}
              options={[
                { value: "", label: "no column" },
                ...found.header.map((title) => ({ value: title, label: title })),
              ]}
              onChange={(title) => {
                const others = Object.entries(found.columns as Record<string, string>).filter(
                  ([key]) => key !== field,
                );
                setColumns(Object.fromEntries(title ? [...others, [field, title]] : others));
              }}
            />
          ))}
          <Pick
            label="Sizes without a unit are in"
            value={unit}
            options={UNITS}
            onChange={(value) => setUnit(value as typeof unit)}
          />
          <Pick
            label="Dates like 06/11/2026"
            value={order}
            options={["day first", "month first"]}
            onChange={(value) => setOrder(value as typeof order)}
          />
          <Field
            label="Time zone of times that name none"
            value={timeZone}
            onChange={(event) => setTimeZone(event.target.value)}
          />
        </fieldset>
      )}
      {found && (
        <Unknown
          title="Jobs that the plan does not have"
          names={found.unknown_jobs}
          mapped={mappedJobs}
          options={jobs.map((job) => ({ value: job.id, label: job.name }))}
          onMap={(name, id) => setMappedJobs({ ...mappedJobs, [name]: id })}
        />
      )}
      {found && (
        <Unknown
          title="Machines that the plan does not have"
          names={found.unknown_machines}
          mapped={mappedMachines}
          onMap={(name, id) => setMappedMachines({ ...mappedMachines, [name]: id })}
        />
      )}
      {found && <Problems found={found} />}
      {found?.odd_sizes && (
        <Sizes
          odd={found.odd_sizes}
          askedAgain={askedAgain}
          onAnswer={(steps) => setAnswered({ steps, of: readAs })}
        />
      )}
      {steps !== null && (
        <p className="border-t border-rule py-1 text-ink-2">
          {steps === 0
            ? "Sizes are taken as they are."
            : `Sizes are read ${times(steps)} than the file says.`}{" "}
          {/* The buttons of the answer are gone: whoever pressed one is here now. */}
          <Button
            small
            look="plain"
            autoFocus
            onClick={() => {
              setAnswered(null);
              setAskedAgain(true);
            }}
          >
            Ask again
          </Button>
        </p>
      )}
      {found && !write.data?.written && (
        <section aria-label="What it comes to" className="border-t border-rule pt-2">
          <p>
            {count(found.rows, "row")} read: {count(found.new, "machine-run")} new,{" "}
            {found.known.toLocaleString("en-GB")} in the ledger already.
          </p>
          {open > 0 && (
            <Flag
              label="Leave out what cannot be read or fits nothing"
              value={onlyGood}
              onChange={setOnlyGood}
            />
          )}
          <Button
            look="strong"
            disabled={
              !found.new || Boolean(found.odd_sizes) || (open > 0 && !onlyGood) || write.isPending
            }
            onClick={() => write.mutate()}
          >
            Import {count(found.new, "machine-run")}
          </Button>
        </section>
      )}
      {write.data?.written && <p role="status">{count(write.data.new, "machine-run")} imported.</p>}
      {write.error && <p role="alert">{write.error.message}</p>}
    </Sheet>
  );
}

function Unknown(props: {
  title: string;
  names: Record<string, unknown>;
  mapped: Record<string, string>;
  options?: readonly { value: string; label: string }[];
  onMap: (name: string, id: string) => void;
}) {
  const { title, names, options, onMap } = props;
  const open = Object.entries(names);
  const [typed, setTyped] = useState<Record<string, string>>({});
  if (!open.length) return null;
  return (
    <section aria-label={title} className="border-t border-rule pt-2">
      <h3 className="font-semibold">{title}</h3>
      <ul>
        {open.slice(0, 30).map(([name, rows]) => (
          <li key={name} className="border-t border-rule py-1">
            <p>
              <strong>{name}</strong>{" "}
              <span className="text-ink-2">{count(Number(rows), "row")}</span>
            </p>
            <div className="flex items-end gap-2">
              {options ? (
                <Pick
                  label="is"
                  value="?"
                  options={[{ value: "?", label: "choose" }, ...options]}
                  onChange={(id) => id !== "?" && onMap(name, id)}
                />
              ) : (
                <Field
                  label={`${name} is the machine`}
                  value={typed[name] ?? ""}
                  onChange={(event) => setTyped({ ...typed, [name]: event.target.value })}
                  onKeyDown={(event) => {
                    if (event.key === "Enter" && typed[name]) onMap(name, typed[name]);
                  }}
                />
              )}
              <Button small look="plain" onClick={() => onMap(name, "")}>
                Leave out
              </Button>
            </div>
          </li>
        ))}
      </ul>
      {open.length > 30 && <p>and {open.length - 30} more names</p>}
    </section>
  );
}

/** "1,024 times larger", by a power of 1,024. */
const times = (steps: number) =>
  `${(1024 ** Math.abs(steps)).toLocaleString("en-GB")} times ${steps > 0 ? "larger" : "smaller"}`;

/** Sizes that seem to be in another unit: nothing is written before somebody says what they are. */
export function Sizes(props: {
  odd: NonNullable<PastRunsFound["odd_sizes"]>;
  onAnswer: (steps: number) => void;
  askedAgain?: boolean;
}) {
  const { odd, onAnswer, askedAgain = false } = props;
  return (
    <section aria-label="Sizes that look wrong" role="alert" className="border-t border-rule py-2">
      <h3 className="font-semibold">Are the sizes in another unit?</h3>
      <p className="pb-1">
        {odd.runs === odd.of ? "All" : `${odd.runs} of`} {count(odd.of, "machine-run")} that can be
        compared are about {times(-odd.steps)} than the plan expects. Of {odd.machine} the file says{" "}
        {bytes(odd.told_bytes)}; the plan expects {bytes(odd.expected_bytes)}.
      </p>
      <div className="flex gap-2">
        <Button small autoFocus={askedAgain} onClick={() => onAnswer(odd.steps)}>
          Read them {times(odd.steps)}
        </Button>
        <Button small look="plain" onClick={() => onAnswer(0)}>
          They are right
        </Button>
      </div>
    </section>
  );
}

function Problems({ found }: { found: PastRunsFound }) {
  if (!found.problems_in_all) return null;
  return (
    <section aria-label="What cannot be read" className="border-t border-rule pt-2">
      <h3 className="font-semibold">{count(found.problems_in_all, "problem")}</h3>
      <ul>
        {found.problems.slice(0, 20).map((problem, i) => (
          <li key={i} className="border-t border-rule py-0.5 text-sm">
            Line {problem.line}
            {problem.column && `, ${problem.column}`}: {problem.value && `“${problem.value}” `}
            {problem.reason}
          </li>
        ))}
      </ul>
    </section>
  );
}
