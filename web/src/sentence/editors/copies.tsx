import { Plus, X } from "lucide-react";
import { Button } from "../../ui/Button";
import { Group, NumberField, Pick } from "../../ui/controls";
import { type Choices as Offered } from "../../api/jobQueries";
import { type CopyValue, retentionOf } from "../value";
import { RetentionFields } from "./kept";
import { type Props } from "./props";

/** What a copy starts from. */
export const firstCopy = (repository: string): CopyValue => ({
  repository,
  delay_min: 0,
  retention: { days: 30 },
});

/** When a copy begins, how long it is kept, and when it goes to the colder tier. */
export function CopyFields({
  value: copy,
  onChange,
}: {
  value: CopyValue;
  onChange: (copy: CopyValue) => void;
}) {
  return (
    <>
      <NumberField
        label="Begins after"
        unit="min"
        value={copy.delay_min ?? 0}
        onChange={(v) => onChange({ ...copy, delay_min: v ?? 0 })}
      />
      <RetentionFields
        value={retentionOf(copy.retention)}
        wrong={null}
        onChange={(retention) => onChange({ ...copy, retention })}
      />
      <NumberField
        label="To the colder tier after"
        unit="days"
        empty="never"
        value={copy.cold_after_days ?? null}
        onChange={(cold_after_days) => onChange({ ...copy, cold_after_days })}
      />
    </>
  );
}

export function CopiesEditor({ edit, offered }: Props & { offered: Offered }) {
  const { value, set, wrong } = edit;
  const copies = value.copies;
  const change = (i: number, next: CopyValue) =>
    set({ copies: copies.map((c, n) => (n === i ? next : c)) });
  const homes = [value.repository, ...value.destinations.map((each) => each.repository)];
  const free = offered.repositories.filter((r) => !homes.includes(r));
  return (
    <>
      {wrong("copies") && (
        <p role="alert" className="text-barn">
          {wrong("copies")}
        </p>
      )}
      {copies.map((copy, i) => (
        <Group key={i} title={`Copy ${i + 1}`}>
          <div className="flex items-center">
            <Pick
              label="To"
              value={copy.repository}
              options={free}
              onChange={(repository) => change(i, { ...copy, repository })}
            />
            <span className="flex-1" />
            <button
              type="button"
              aria-label={`Take copy ${i + 1} away`}
              onClick={() => set({ copies: copies.filter((_, n) => n !== i) })}
              className="p-1 hover:bg-closed"
            >
              <X size={14} aria-hidden />
            </button>
          </div>
          <CopyFields value={copy} onChange={(next) => change(i, next)} />
        </Group>
      ))}
      <Button
        small
        disabled={!free.length}
        onClick={() =>
          set({
            copies: [...copies, firstCopy(free[0]!)],
          })
        }
      >
        <Plus size={12} aria-hidden /> {copies.length ? "Another copy" : "A copy"}
      </Button>
    </>
  );
}
