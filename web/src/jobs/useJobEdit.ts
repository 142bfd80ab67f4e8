import { useQuery } from "@tanstack/react-query";
import { useCallback, useMemo, useState } from "react";
import { ApiProblem, type Operation } from "../api/client";
import { useConsiderWhileShown } from "../workbench/considering";
import { refusalsOf } from "../workbench/refusals";
import { useWorkbench } from "../workbench/store";
import { lookQuery } from "../api/jobQueries";
import { addJob, changeJob, changesOf, type JobValue } from "./value";

/** What editors of a job's clauses work with. */
export interface JobEdit {
  value: JobValue;
  set: (values: Record<string, unknown>) => void;
  /** What the server says of a value, by its key. */
  wrong: (key: string) => string | null;
  operations: Operation[];
}

/**
 * A job while it is edited: what is typed is simulated at once and shows in the sentence, its week
 * and the week strip; it is kept when it is added to the draft, and discarded when it is left.
 */
export function useJobEdit(id: string, fresh: JobValue | null) {
  const { plan, draft, date, put, clash } = useWorkbench();
  const [saving, setSaving] = useState(false);
  const [values, setValues] = useState<Record<string, unknown>>({});
  // Once it is settled whose edits stand, what was typed is in the draft or given up.
  const [met, setMet] = useState(false);
  if ((clash !== null) !== met) {
    setMet(clash !== null);
    if (clash === null) setValues({});
  }
  const saved = useQuery({
    ...lookQuery(plan, draft, id, date, []),
    enabled: fresh === null,
    placeholderData: (before) => before,
  });
  const base = fresh ?? (saved.data?.value as JobValue | undefined);
  const operations = useMemo<Operation[]>(() => {
    if (fresh) return [addJob({ ...fresh, ...values })];
    const changes = base ? changesOf(base, values) : {};
    return Object.keys(changes).length ? [changeJob(id, changes)] : [];
  }, [base, fresh, id, values]);
  useConsiderWhileShown(operations);

  const look = useQuery({
    ...lookQuery(plan, draft, id, date, operations),
    enabled: base !== undefined && !saving,
    placeholderData: (before) => before,
  });
  const refused = look.error instanceof ApiProblem ? look.error : null;
  const { of: wrong } = refusalsOf(refused);
  const errors = refused?.problem.errors ?? [];
  const set = useCallback(
    (more: Record<string, unknown>) => setValues((now) => ({ ...now, ...more })),
    [],
  );
  const edit: JobEdit | null = base
    ? { value: { ...base, ...values }, set, wrong, operations }
    : null;
  return {
    edit,
    look: look.data ?? saved.data,
    fetching: look.isFetching,
    refused: refused
      ? errors
          .map((e) => `${e.field.replace(/^operations\[\d+\]\./, "")} ${e.reason}`)
          .join("; ") || refused.message
      : null,
    missing: saved.error,
    changed: operations.length > 0,
    forget: () => setValues({}),
    save: async () => {
      setSaving(true);
      const done = await put(operations);
      if (done) setValues({});
      // A job that was new is read from the draft from now on.
      if (!done || !fresh) setSaving(false);
      return done;
    },
  };
}
