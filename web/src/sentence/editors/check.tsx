import { Flag, NumberField, Pick } from "../../ui/controls";
import { VERIFIES } from "./choices";
import { type Props } from "./props";

export function CheckEditor({ edit }: Props) {
  const { value, set } = edit;
  return (
    <>
      <Pick
        label="Checked by"
        value={String(value["verify"])}
        options={VERIFIES}
        onChange={(v) => set({ verify: v })}
      />
      {value["verify"] === "boot" && (
        <NumberField
          label="A boot test takes"
          unit="min"
          value={value["boot_min"] as number}
          wrong={edit.wrong("boot_min")}
          onChange={(v) => v !== null && set({ boot_min: v })}
        />
      )}
      {value["verify"] !== "none" && (
        <Flag
          label="Fulls too"
          value={Boolean(value["verify_fulls"])}
          onChange={(v) => set({ verify_fulls: v })}
        />
      )}
      <p className="text-ink-2">
        Checking is part of the run: its minutes stand in the week above.
      </p>
    </>
  );
}
