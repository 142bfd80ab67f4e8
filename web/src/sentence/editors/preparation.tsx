import { Field } from "../../ui/Field";
import { Group, NumberField, Pick } from "../../ui/controls";
import { type Props } from "./props";

export function PreparationEditor({ edit }: Props) {
  const { value, set } = edit;
  const num = (key: string, label: string, unit: string) => (
    <NumberField
      key={key}
      label={label}
      unit={unit}
      value={value[key] as number}
      wrong={edit.wrong(key)}
      onChange={(v) => set({ [key]: v ?? 0 })}
    />
  );
  const name = (key: string, label: string) => (
    <Field
      key={key}
      label={label}
      placeholder="no name"
      value={String(value[key] ?? "")}
      wrong={edit.wrong(key)}
      onChange={(event) => set({ [key]: event.target.value })}
    />
  );
  return (
    <>
      <Group title="Each machine">
        {name("guest_before_name", "Step in the guest before it")}
        {num("guest_before_s", "It takes", "s")}
        {num("quiesce_s", "Quiescing takes", "s")}
        <Pick
          label="Where it cannot be quiesced, it is"
          value={String(value["if_quiesce_fails"])}
          options={[
            { value: "as it is", label: "taken as it is" },
            { value: "standstill", label: "halted for a moment" },
            { value: "leave out", label: "left out" },
          ]}
          onChange={(v) => set({ if_quiesce_fails: v })}
        />
        <Pick
          label="Instead of a live snapshot"
          value={String(value["standstill"])}
          options={[
            { value: "none", label: "nothing: it runs on" },
            { value: "pause", label: "it is paused" },
            { value: "stop", label: "it is stopped" },
          ]}
          onChange={(v) => set({ standstill: v })}
        />
        {num("standstill_s", "Halting takes", "s")}
        {name("guest_after_name", "Step in the guest after it, such as truncating logs")}
        {num("guest_after_s", "It takes", "s")}
      </Group>
      <Group title="The whole run">
        {num("before_min", "Before the first machine", "min")}
        {num("after_min", "After the last machine", "min")}
      </Group>
    </>
  );
}
