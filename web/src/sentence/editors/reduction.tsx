import { Flag, NumberField } from "../../ui/controls";
import { type Props } from "./props";

export function ReductionEditor({ edit }: Props) {
  const { value, set } = edit;
  const flag = (key: string, label: string) => (
    <Flag key={key} label={label} value={Boolean(value[key])} onChange={(v) => set({ [key]: v })} />
  );
  return (
    <>
      {flag("compress", "Compressed")}
      {flag("skip_swap", "Swap is left out")}
      {flag("skip_unused", "Unused blocks are left out")}
      {flag("encrypt", "Encrypted")}
      {Boolean(value["encrypt"]) && (
        <NumberField
          label="Encrypting leaves of a stream's speed"
          unit="%"
          value={Math.round(Number(value["encrypt_factor"]) * 1000) / 10}
          wrong={edit.wrong("encrypt_factor")}
          onChange={(v) => v !== null && set({ encrypt_factor: v / 100 })}
        />
      )}
    </>
  );
}
