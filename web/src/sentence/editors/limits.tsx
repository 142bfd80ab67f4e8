import { NumberField, Pick } from "../../ui/controls";
import { type Choices as Offered } from "../../api/jobQueries";
import { type Props } from "./props";

export function LimitsEditor({ edit, offered }: Props & { offered: Offered }) {
  const { value, set } = edit;
  const network = (value["network"] as string | null | undefined) ?? "";
  const networks = [...new Set([...offered.networks, ...(network ? [network] : [])])];
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
      {networks.length > 0 && (
        <Pick
          label="Network"
          value={network}
          options={[
            { value: "", label: "each machine's own" },
            ...networks.map((each) => ({ value: each, label: `${each} only` })),
          ]}
          onChange={(v) => set({ network: v || null })}
        />
      )}
    </>
  );
}
