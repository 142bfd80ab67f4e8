import { useState } from "react";
import { useQueryClient } from "@tanstack/react-query";
import { useWorkbench } from "../workbench/store";
import { Button } from "../ui/Button";
import { Choice } from "../ui/Choice";
import { Field } from "../ui/Field";
import { fitting, keepMapping, keptMappings, sameColumns } from "./mappings";
import { Sheet } from "../ui/Sheet";
import { WeekLines } from "./WeekLines";
import { WordsOfFile } from "./WordsOfFile";
import { count } from "../ui/words";
import {
  importFiles,
  type ImportChoices,
  type ImportPreview,
  previewImport,
} from "../api/estateQueries";
import { problemLines } from "./useEstateChange";

const UNITS = ["GiB", "GB", "MiB", "MB", "TiB", "TB", "KiB", "bytes"];

/** Machines from files: choose, see what would change and what is wrong, then take it. */
export function ImportSheet({ onClose }: { onClose: () => void }) {
  const { plan, date } = useWorkbench();
  const client = useQueryClient();
  const [files, setFiles] = useState<File[]>([]);
  const [choices, setChoices] = useState<ImportChoices>({
    mapping: null,
    unit: "GiB",
    host: "",
    newHostsAt: "",
    words: {},
  });
  const [preview, setPreview] = useState<ImportPreview | null>(null);
  const [busy, setBusy] = useState(false);
  const [problem, setProblem] = useState<Error | null>(null);
  const [done, setDone] = useState<string | null>(null);
  const [last, setLast] = useState<{
    columns: string[];
    mapping: Record<string, string>;
  } | null>(null);
  const [kept, setKept] = useState(() => keptMappings(plan.id));
  const [name, setName] = useState("");

  const work = async (job: () => Promise<void>) => {
    setBusy(true);
    setProblem(null);
    try {
      await job();
    } catch (error) {
      setProblem(error as Error);
    } finally {
      setBusy(false);
    }
  };
  const look = (chosen: File[], how: ImportChoices) =>
    work(async () => {
      setFiles(chosen);
      setChoices(how);
      setDone(null);
      let found = chosen.length ? await previewImport(plan.id, chosen, how, date) : null;
      const columns = tableOf(found)?.columns;
      if (how.mapping === null && columns && last && sameColumns(columns, last.columns)) {
        // The corrected file: it is taken as the one before it was.
        const again = { ...how, mapping: last.mapping };
        setChoices(again);
        found = await previewImport(plan.id, chosen, again, date);
      }
      const mapped = tableOf(found);
      if (mapped)
        setLast({
          columns: mapped.columns,
          mapping: mapped.mapping as Record<string, string>,
        });
      setPreview(found);
    });
  const take = (goodRows: boolean) =>
    work(async () => {
      if (!preview) return;
      const made = await importFiles(plan.id, files, choices, goodRows, preview.base_version);
      setDone(`${count(made.words.length, "machine")} imported. It can be undone under Changes.`);
      setPreview(null);
      setFiles([]);
      await client.invalidateQueries({ queryKey: ["plan", plan.id], refetchType: "active" });
    });

  const table = tableOf(preview);
  const bad = (preview?.problems.length ?? 0) + (preview?.more_problems ?? 0);
  return (
    <Sheet label="Import" title="Import machines" onClose={onClose}>
      <p className="mb-2 text-ink-2">
        CSV, plan files, OVF descriptors, libvirt domains with their volumes; several at once, also
        in a .zip or .ova. Nothing is written before you have seen what changes.
      </p>
      <label
        className="mb-2 block rounded-[3px] border border-dashed border-rule-strong bg-raised p-3 text-center focus-within:outline-2 focus-within:outline-focus hover:bg-closed"
        onDragOver={(event) => event.preventDefault()}
        onDrop={(event) => {
          event.preventDefault();
          void look([...event.dataTransfer.files], { ...choices, mapping: null });
        }}
      >
        <span role="status">
          {busy
            ? "Reading …"
            : files.length
              ? files.map((file) => file.name).join(", ")
              : "Choose files, or drop them here"}
        </span>
        <input
          type="file"
          multiple
          className="sr-only"
          aria-label="Files to import"
          onChange={(event) => {
            const chosen = [...(event.target.files ?? [])];
            event.target.value = "";
            if (chosen.length) void look(chosen, { ...choices, mapping: null });
          }}
        />
      </label>
      {problemLines(problem)
        .slice(0, 12)
        .map((line) => (
          <p key={line} role="alert" className="text-barn">
            {line}
          </p>
        ))}
      {done && (
        <p role="status" className="font-semibold">
          {done}
        </p>
      )}
      {preview && (
        <>
          <ul className="mb-2 text-ink-2">
            {preview.files.map((file) => (
              <li key={file.name}>
                {file.name}: {file.kind}, {count(file.machines, "machine")}
              </li>
            ))}
          </ul>
          {table && (
            <Mapping
              fields={preview.fields}
              columns={table.columns}
              mapping={table.mapping as Record<string, string>}
              sample={table.sample}
              unit={choices.unit}
              onChange={(mapping) => void look(files, { ...choices, mapping })}
              onUnit={(unit) => void look(files, { ...choices, unit })}
            />
          )}
          {table && (
            <WordsOfFile
              found={table.words}
              words={choices.words}
              roles={preview.roles}
              onChange={(words) => void look(files, { ...choices, words })}
            />
          )}
          {table && (
            <div className="mb-2">
              {Object.keys(kept).length > 0 && (
                <span className="-ml-1.5">
                  <Choice
                    lead="Mapped as"
                    value=""
                    options={Object.keys(kept).map((value) => ({ value, label: value }))}
                    onChange={(chosen) => {
                      const { mapping, unit, words } = kept[chosen]!;
                      void look(files, {
                        ...choices,
                        unit,
                        words: words ?? {},
                        mapping: fitting(mapping, table.columns),
                      });
                    }}
                  />
                </span>
              )}
              <form
                className="flex items-end gap-1"
                onSubmit={(event) => {
                  event.preventDefault();
                  if (!name.trim()) return;
                  keepMapping(plan.id, name.trim(), {
                    mapping: table.mapping as Record<string, string>,
                    unit: choices.unit,
                    words: choices.words,
                  });
                  setKept(keptMappings(plan.id));
                  setName("");
                }}
              >
                <div className="flex-1">
                  <Field
                    label="Keep this mapping as"
                    value={name}
                    onChange={(event) => setName(event.target.value)}
                  />
                </div>
                <Button type="submit" className="mb-2" disabled={!name.trim()}>
                  Keep
                </Button>
              </form>
            </div>
          )}
          <div className="-ml-1.5 mb-2">
            <Choice
              lead="VMs without a host go on"
              value={choices.host}
              options={[
                { value: "", label: "none, that is an error" },
                ...plan.host_ids.map((value) => ({ value, label: value })),
              ]}
              onChange={(host) => void look(files, { ...choices, host })}
            />
          </div>
          {preview.hosts_not_there.length > 0 && (
            <div className="-ml-1.5 mb-2">
              <Choice
                lead={`${count(preview.hosts_not_there.length, "host")} not in the plan:`}
                value={choices.newHostsAt}
                options={[
                  { value: "", label: "an error" },
                  ...plan.site_ids.map((value) => ({ value, label: `added at ${value}` })),
                ]}
                onChange={(newHostsAt) => void look(files, { ...choices, newHostsAt })}
              />
              <span className="ml-1.5 block text-xs text-ink-2 [overflow-wrap:anywhere]">
                {preview.hosts_not_there.slice(0, SHOWN).join(", ")}
                {preview.hosts_not_there.length > SHOWN &&
                  ` and ${preview.hosts_not_there.length - SHOWN} more`}
              </span>
            </div>
          )}
          <h3 className="font-semibold">
            {preview.lines.length
              ? `${count(preview.lines.length, "machine")} would change`
              : "Nothing would change"}
            {preview.unchanged > 0 && (
              <span className="font-normal text-ink-2">, {preview.unchanged} are as they were</span>
            )}
          </h3>
          <Lines lines={preview.lines} />
          {preview.jobs.length > 0 && (
            <Lines lines={preview.jobs.map((job) => `${job.machine} ${job.words}`)} />
          )}
          {preview.lines.length > 0 && (
            <>
              <h3 className="mt-2 font-semibold">The week with them</h3>
              <WeekLines nights={preview.nights} />
            </>
          )}
          {bad > 0 && (
            <>
              <h3 className="mt-2 font-semibold text-barn">
                {count(bad, "thing")} cannot be imported
              </h3>
              <ol aria-label="What is wrong">
                {preview.problems.slice(0, 50).map((p, i) => (
                  <li key={i} className="border-t border-rule py-1">
                    <span className="font-mono text-xs">
                      {[p.file, p.line && `line ${p.line}`, p.column].filter(Boolean).join(", ")}
                    </span>
                    <span className="block">
                      {p.value && <q>{p.value}</q>} {p.reason}
                    </span>
                  </li>
                ))}
              </ol>
              {bad > 50 && <p className="text-ink-2">and {bad - 50} more</p>}
            </>
          )}
          <p className="mt-3 flex gap-2">
            <Button
              look="strong"
              disabled={busy || bad > 0 || !preview.lines.length}
              onClick={() => void take(false)}
            >
              Import all of it
            </Button>
            {bad > 0 && (
              <Button disabled={busy || !preview.lines.length} onClick={() => void take(true)}>
                Only the good rows
              </Button>
            )}
          </p>
        </>
      )}
    </Sheet>
  );
}

const tableOf = (preview: ImportPreview | null) =>
  preview?.files.find((file) => file.kind === "CSV");

const SHOWN = 8;

function Lines({ lines }: { lines: string[] }) {
  const [all, setAll] = useState(false);
  return (
    <ul className="mb-1">
      {(all ? lines.slice(0, 500) : lines.slice(0, SHOWN)).map((line) => (
        <li key={line} className="[overflow-wrap:anywhere]">
          {line}
        </li>
      ))}
      {lines.length > SHOWN && !all && (
        <li>
          <button
            type="button"
            className="text-ink-2 underline underline-offset-2"
            onClick={() => setAll(true)}
          >
            {lines.length - SHOWN} more
          </button>
        </li>
      )}
    </ul>
  );
}

/** Which column is what; a foreign header is mapped once and previewed at once. */
function Mapping({
  fields,
  columns,
  mapping,
  sample,
  unit,
  onChange,
  onUnit,
}: {
  fields: string[];
  columns: string[];
  mapping: Record<string, string>;
  sample: string[][];
  unit: string;
  onChange: (mapping: Record<string, string>) => void;
  onUnit: (unit: string) => void;
}) {
  const fieldOf = (column: string) =>
    Object.keys(mapping).find((field) => mapping[field] === column) ?? "";
  const unused = columns.filter((column) => !fieldOf(column)).length;
  // It opens where something is missing, and stays open until it is closed.
  const [open, setOpen] = useState(!mapping["name"]);
  return (
    <details open={open} onToggle={(event) => setOpen(event.currentTarget.open)} className="mb-2">
      <summary className="cursor-pointer font-semibold">
        Columns{" "}
        <span className="font-normal text-ink-2">
          {columns.length - unused} used, {unused} not
        </span>
      </summary>
      <table className="w-full">
        <caption className="sr-only">Columns of the file and what they are taken for</caption>
        <tbody>
          {columns.map((column, i) => (
            <tr key={column} className="border-b border-rule">
              <th
                scope="row"
                className="max-w-36 truncate py-0.5 text-left font-normal"
                title={sample.map((row) => row[i]).join("\n")}
              >
                {column}
                <span className="block truncate text-xs text-ink-2">{sample[0]?.[i]}</span>
              </th>
              <td>
                <Choice
                  lead="is"
                  value={fieldOf(column)}
                  options={[
                    { value: "", label: "not used" },
                    ...fields.map((value) => ({ value, label: value.replaceAll("_", " ") })),
                  ]}
                  onChange={(field) => {
                    const next = Object.fromEntries(
                      Object.entries(mapping).filter(([f, c]) => c !== column && f !== field),
                    );
                    onChange(field ? { ...next, [field]: column } : next);
                  }}
                />
              </td>
            </tr>
          ))}
        </tbody>
      </table>
      <Choice
        lead="Sizes without a unit are"
        value={unit}
        options={UNITS.map((value) => ({ value, label: value }))}
        onChange={onUnit}
      />
    </details>
  );
}
