import { useAddress } from "../workbench/address";
import { useConsiderWhileShown } from "../workbench/considering";
import { useRefusals } from "../workbench/refusals";
import { useWorkbench } from "../workbench/store";
import { useUnsaved } from "../workbench/unsaved";
import { Button } from "../ui/Button";
import { NumberField } from "../ui/controls";
import { FIELDS } from "./fields";

const AS_THEY_ARE: Record<string, number> = {};
const editsOf = (values: Record<string, number>) => Object.keys(values).length;

/** The most that one stream moves, by transport. */
export function StreamCeilings({ now }: { now: Record<string, number> }) {
  const { search, set } = useAddress();
  if (search.get("ceilings") === "open")
    return <CeilingsForm now={now} onClose={() => set({ ceilings: null })} />;
  const said = FIELDS.transports
    .map((spec) => `${spec.label.toLowerCase()} ${now[spec.key]}`)
    .join(", ");
  return (
    <p className="px-4 py-1">
      One stream moves at most, in MiB/s: {said}.{" "}
      <Button small look="plain" className="underline" onClick={() => set({ ceilings: "open" })}>
        Change
      </Button>
    </p>
  );
}

/** What is typed is simulated at once, and kept in the browser until it is added or discarded. */
function CeilingsForm({ now, onClose }: { now: Record<string, number>; onClose: () => void }) {
  const { considered, put, busy } = useWorkbench();
  const unsaved = useUnsaved(
    "ceilings of one stream",
    () => "ceilings of one stream",
    AS_THEY_ARE,
    editsOf,
  );
  const { value: changes } = unsaved;
  useConsiderWhileShown(editsOf(changes) ? [{ operation: "SetTransports", changes }] : []);
  const refusals = useRefusals();
  const close = () => {
    unsaved.clear();
    onClose();
  };
  return (
    <form
      aria-label="Ceilings of one stream"
      className="flex flex-wrap items-end gap-3 px-4 py-1"
      onSubmit={(event) => {
        event.preventDefault();
        if (considered.length && !refusals.lines.length)
          void put([...considered]).then((done) => done && close());
      }}
    >
      {FIELDS.transports.map((spec) => (
        <div key={spec.key} className="w-36">
          <NumberField
            label={spec.label}
            unit="MiB/s"
            value={changes[spec.key] ?? now[spec.key]}
            wrong={refusals.of(spec.key)}
            onChange={(v) => v !== null && unsaved.set((typed) => ({ ...typed, [spec.key]: v }))}
          />
        </div>
      ))}
      <span className="mb-2 flex gap-2">
        <Button
          type="submit"
          look="strong"
          disabled={!considered.length || refusals.lines.length > 0 || busy === "saving"}
        >
          Add to draft
        </Button>
        <Button look="plain" onClick={close}>
          Discard
        </Button>
      </span>
    </form>
  );
}
