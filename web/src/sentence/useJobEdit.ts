import { useQuery } from "@tanstack/react-query";
import { useEffect, useMemo, useRef, useState } from "react";
import { ApiProblem, type Operation } from "../api/client";
import { useConsiderWhileShown } from "../workbench/considering";
import { refusalsOf, refusalWords } from "../workbench/refusals";
import { useWorkbench } from "../workbench/store";
import type { UnsavedValue } from "../workbench/unsaved";
import { lookQuery } from "../api/jobQueries";
import {
  addJob,
  changeJob,
  changesOf,
  type JobValue,
  type PointsElsewhere,
  pointsTaken,
} from "./value";

const NO_POINTS: readonly PointsElsewhere[] = [];

/** What is typed of a job and not saved; `fresh` is the whole of one that is not in a draft yet. */
export interface JobEdits {
  fresh: JobValue | null;
  values: Readonly<Record<string, unknown>>;
  /** Points elsewhere from which it is to go on. */
  goesOnFrom?: readonly PointsElsewhere[];
}

export const NO_EDITS: JobEdits = { fresh: null, values: {} };

export const editsOf = ({ fresh, values, goesOnFrom = [] }: JobEdits) =>
  Object.keys(values).length + goesOnFrom.length + (fresh ? 1 : 0);

/** What editors of a job's clauses work with. */
export interface JobEdit {
  value: JobValue;
  set: (values: Record<string, unknown>) => void;
  /** What the server says of a value, by its key. */
  wrong: (key: string) => string | null;
  operations: Operation[];
  goesOnFrom: readonly PointsElsewhere[];
  goOnFrom: (points: readonly PointsElsewhere[]) => void;
}

/**
 * A job while it is edited: what is typed is simulated at once and shows in the sentence, its week
 * and the week strip; it is kept when it is added to the draft, and discarded when it is left.
 */
export function useJobEdit(
  id: string,
  fresh: JobValue | null,
  { value: { values, goesOnFrom = NO_POINTS }, set: setEdits, clear }: UnsavedValue<JobEdits>,
) {
  const { plan, draft, date, put, clash } = useWorkbench();
  const [saving, setSaving] = useState(false);
  // Once it is settled whose edits stand, what was typed is in the draft or given up.
  const met = useRef(clash);
  useEffect(() => {
    if (met.current && !clash) clear();
    met.current = clash;
  });
  const saved = useQuery({
    ...lookQuery(plan, draft, id, date, []),
    enabled: fresh === null,
    placeholderData: (before) => before,
  });
  const base = fresh ?? (saved.data?.value as JobValue | undefined);
  const operations = useMemo<Operation[]>(() => {
    if (!base) return [];
    const points = pointsTaken({ ...base, ...values }, goesOnFrom);
    if (fresh) return [addJob({ ...fresh, ...values }), ...points];
    const changes = changesOf(base, values);
    return [...(Object.keys(changes).length ? [changeJob(id, changes)] : []), ...points];
  }, [base, fresh, goesOnFrom, id, values]);
  useConsiderWhileShown(operations);

  const look = useQuery({
    ...lookQuery(plan, draft, id, date, operations),
    enabled: base !== undefined && !saving,
    placeholderData: (before) => before,
  });
  const refused = look.error instanceof ApiProblem ? look.error : null;
  const { of: wrong } = refusalsOf(refused);
  const errors = refused?.problem.errors ?? [];
  const set = (more: Record<string, unknown>) =>
    setEdits((now) => ({ ...now, values: { ...now.values, ...more } }));
  const edit: JobEdit | null = base
    ? {
        value: { ...base, ...values },
        set,
        wrong,
        operations,
        goesOnFrom,
        goOnFrom: (points) => setEdits((now) => ({ ...now, goesOnFrom: points })),
      }
    : null;
  return {
    edit,
    look: look.data ?? saved.data,
    fetching: look.isFetching,
    refused: refused ? errors.map(refusalWords).join("; ") || refused.message : null,
    missing: saved.error,
    changed: operations.length > 0,
    edits: Object.keys(values).length + goesOnFrom.length,
    forget: clear,
    save: async () => {
      setSaving(true);
      const done = await put(operations);
      if (done) clear();
      // A job that was new is read from the draft from now on.
      if (!done || !fresh) setSaving(false);
      return done;
    },
  };
}
