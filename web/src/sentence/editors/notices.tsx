import { useState } from "react";
import { Field } from "../../ui/Field";
import { Pick } from "../../ui/controls";
import { betweenCommas, NOTICES } from "./choices";
import { type Props } from "./props";

export function NoticesEditor({ edit }: Props) {
  const { value, set } = edit;
  const [text, setText] = useState<string | null>(null);
  return (
    <>
      <Pick
        label="Told"
        value={String(value["notify"])}
        options={NOTICES}
        onChange={(v) => set({ notify: v })}
      />
      <Field
        label="Whom, separated by commas"
        value={text ?? value.notify_to.join(", ")}
        wrong={edit.wrong("notify_to")}
        onChange={(e) => {
          setText(e.target.value);
          set({ notify_to: betweenCommas(e.target.value) });
        }}
      />
    </>
  );
}
