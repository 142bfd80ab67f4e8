import { Field } from "../../ui/Field";
import { NumberField, Pick } from "../../ui/controls";
import { type Props } from "./props";

export function RankEditor({ edit }: Props) {
  const { value, set } = edit;
  return (
    <>
      <Pick
        label="Priority"
        value={String(value["priority"])}
        options={["1", "2", "3", "4", "5"].map((p) => ({
          value: p,
          label: p === "1" ? "1, the last" : p === "5" ? "5, the first" : p,
        }))}
        onChange={(v) => set({ priority: Number(v) })}
      />
      <NumberField
        label="Share where streams compete"
        value={value["share"] as number}
        wrong={edit.wrong("share")}
        onChange={(v) => v !== null && set({ share: v })}
      />
      <Field
        label="Name of the job"
        value={value.name}
        wrong={edit.wrong("name")}
        onChange={(e) => set({ name: e.target.value })}
      />
    </>
  );
}
