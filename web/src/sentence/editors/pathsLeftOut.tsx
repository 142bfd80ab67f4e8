import { Plus, X } from "lucide-react";
import { useState } from "react";
import { Button } from "../../ui/Button";
import { Field } from "../../ui/Field";
import { typedNumber } from "../../ui/numbers";
import { Group, Pick } from "../../ui/controls";
import { type Props } from "./props";

export function PathsLeftOut({ edit, look }: Props) {
  const { value, set, wrong } = edit;
  const [made, setMade] = useState({ machine: "", disk: "", path: "", gib: "" });
  const disks = look?.selected.find((m) => m.machine === made.machine)?.disks ?? [];
  const gib = typedNumber(made.gib);
  const ready = made.machine && made.disk && made.path && gib >= 0;
  return (
    <Group title="Without these paths">
      {value.exclude_paths.map((path, i) => (
        <p key={i} className="flex items-center gap-1 text-xs">
          <span className="flex-1 truncate font-mono">
            {path.machine} {path.disk} {path.path}
          </span>{" "}
          {path.gib} GiB
          <button
            type="button"
            aria-label={`Take ${path.path} in again`}
            onClick={() => set({ exclude_paths: value.exclude_paths.filter((_, n) => n !== i) })}
          >
            <X size={13} aria-hidden />
          </button>
        </p>
      ))}
      {wrong("exclude_paths") && (
        <p role="alert" className="text-barn">
          {wrong("exclude_paths")}
        </p>
      )}
      <Pick
        label="Machine"
        value={made.machine}
        options={(look?.selected ?? []).map((m) => m.machine)}
        onChange={(machine) => setMade({ ...made, machine, disk: "" })}
      />
      {disks.length > 0 && (
        <Pick
          label="Disk"
          value={made.disk}
          options={disks}
          onChange={(disk) => setMade({ ...made, disk })}
        />
      )}
      <div className="flex gap-1">
        <div className="flex-1">
          <Field
            label="Path"
            value={made.path}
            placeholder="/var/cache"
            onChange={(e) => setMade({ ...made, path: e.target.value })}
          />
        </div>
        <div className="w-20">
          <Field
            label="GiB there"
            inputMode="decimal"
            value={made.gib}
            onChange={(e) => setMade({ ...made, gib: e.target.value })}
          />
        </div>
      </div>
      <Button
        small
        disabled={!ready}
        onClick={() => {
          set({ exclude_paths: [...value.exclude_paths, { ...made, gib }] });
          setMade({ machine: "", disk: "", path: "", gib: "" });
        }}
      >
        <Plus size={12} aria-hidden /> Leave the path out
      </Button>
    </Group>
  );
}
