import { NumberField } from "../../ui/controls";
import { type Props } from "./props";

export function LimitsEditor({ edit }: Props) {
  const { value, set } = edit;
  return (
    <>
      <NumberField
        label="Streams at once"
        value={value["max_streams"] as number | null}
        empty="no limit"
        wrong={edit.wrong("max_streams")}
        onChange={(v) => set({ max_streams: v })}
      />
      <NumberField
        label="Bandwidth"
        unit="Mbit/s"
        value={value["limit_mbit_per_s"] as number | null}
        empty="no limit"
        wrong={edit.wrong("limit_mbit_per_s")}
        onChange={(v) => set({ limit_mbit_per_s: v })}
      />
    </>
  );
}
