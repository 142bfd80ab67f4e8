import { useMutation, useQueryClient } from "@tanstack/react-query";
import { type FormEvent, useState } from "react";
import { afterChecksKey, checkPoint, type NewCheck } from "../api/recoveryQueries";
import { Button } from "../ui/Button";
import { Field } from "../ui/Field";

/** What somebody found out about a point, with a note. */
export function CheckForm({
  plan,
  point,
  source,
  good,
  act,
  question,
  onDone,
}: {
  plan: number;
  point: Pick<NewCheck, "job" | "machine" | "repository" | "at">;
  source: NewCheck["source"];
  /** None: asked for by two buttons. */
  good: boolean | null;
  /** What the buttons do, in words: for a good point, for a bad one. */
  act: { good: string; bad: string };
  question: string;
  onDone?: () => void;
}) {
  const client = useQueryClient();
  const [note, setNote] = useState("");
  const { job, machine, repository, at } = point;
  const give = useMutation({
    mutationFn: (said: boolean) =>
      checkPoint(plan, { job, machine, repository, at, source, good: said, note: note.trim() }),
    onSuccess: async () => {
      setNote("");
      await client.invalidateQueries({ queryKey: afterChecksKey(plan) });
      onDone?.();
    },
  });
  const submit = (event: FormEvent) => {
    event.preventDefault();
    give.mutate(good ?? true);
  };
  return (
    <form onSubmit={submit} className="pt-1">
      <Field
        label={question}
        maxLength={500}
        value={note}
        onChange={(event) => setNote(event.target.value)}
        wrong={give.error?.message ?? null}
      />
      <span className="flex gap-1.5">
        {good !== false && (
          <Button small type="submit" disabled={give.isPending}>
            {act.good}
          </Button>
        )}
        {good !== true && (
          <Button
            small
            type={good === false ? "submit" : "button"}
            disabled={give.isPending}
            onClick={good === false ? undefined : () => give.mutate(false)}
          >
            {act.bad}
          </Button>
        )}
      </span>
    </form>
  );
}
