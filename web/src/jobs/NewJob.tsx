import { useQuery } from "@tanstack/react-query";
import { X } from "lucide-react";
import { useState } from "react";
import { useWorkbench } from "../workbench/store";
import { Button } from "../ui/Button";
import { Field } from "../ui/Field";
import { Sheet } from "../ui/Sheet";
import { count } from "../ui/words";
import { Pick } from "../ui/controls";
import { begin, removeTemplate, templatesQuery } from "../api/jobQueries";
import type { JobValue } from "../sentence/value";

/** Where a new job starts from: standard settings, machines, another job, a template. */
export function NewJob({
  machines,
  like,
  onBegun,
  onClose,
}: {
  machines: string[];
  like: string | null;
  onBegun: (value: JobValue) => void;
  onClose: () => void;
}) {
  const { plan, draft, date } = useWorkbench();
  const templates = useQuery(templatesQuery(plan.id));
  const [name, setName] = useState("");
  const [model, setModel] = useState(like ? `job ${like}` : "");
  const [wrong, setWrong] = useState<string | null>(null);
  const start = async () => {
    const [kind, id = ""] = model.split(/ (.*)/s);
    try {
      const answer = await begin(plan.id, {
        draft: draft?.id ?? null,
        operations: [],
        name: name.trim(),
        day: date,
        machines,
        like: kind === "job" ? id : null,
        template: kind === "template" ? Number(id) : null,
      });
      onBegun(answer.value as unknown as JobValue);
    } catch (error) {
      setWrong((error as Error).message);
    }
  };
  return (
    <Sheet label="New job" title="A new job" onClose={onClose}>
      <form
        onSubmit={(event) => {
          event.preventDefault();
          if (name.trim()) void start();
        }}
      >
        <Field
          label="Name"
          autoFocus
          value={name}
          wrong={wrong}
          onChange={(event) => setName(event.target.value)}
        />
        <Pick
          label="Start from"
          value={model}
          options={[
            { value: "", label: "standard settings" },
            ...(templates.data ?? []).map((t) => ({
              value: `template ${t.id}`,
              label: `template ${t.name}`,
            })),
            ...plan.jobs.map((j) => ({ value: `job ${j.id}`, label: `job ${j.name}` })),
          ]}
          onChange={setModel}
        />
        {machines.length > 0 && (
          <p className="mb-2">
            It takes {count(machines.length, "machine")}: {machines.slice(0, 4).join(", ")}
            {machines.length > 4 && " …"}
          </p>
        )}
        <p className="mb-3 text-ink-2">
          Standard settings run incrementals every night and a full on the night that has the
          fewest, into the repository and inside the window that most jobs use. Everything can be
          changed in the sentence.
        </p>
        <Button type="submit" look="strong" disabled={!name.trim()}>
          Begin
        </Button>
      </form>
      {(templates.data?.length ?? 0) > 0 && (
        <section aria-label="Templates" className="mt-4">
          <h3 className="font-semibold">Templates</h3>
          <ul>
            {templates.data?.map((t) => (
              <li key={t.id} className="flex items-center gap-1">
                <span className="flex-1 truncate">{t.name}</span>
                <button
                  type="button"
                  aria-label={`Delete the template ${t.name}`}
                  className="p-0.5 hover:bg-closed"
                  onClick={() => void removeTemplate(plan.id, t.id).then(() => templates.refetch())}
                >
                  <X size={13} aria-hidden />
                </button>
              </li>
            ))}
          </ul>
        </section>
      )}
    </Sheet>
  );
}
