import { useState } from "react";
import { Field } from "../../ui/Field";
import { Pick } from "../../ui/controls";
import { type Props } from "./props";

export function NoticesEditor({ edit }: Props) {
  const { value, set } = edit;
  const [text, setText] = useState<string | null>(null);
  return (
    <>
      <Pick
        label="Told"
        value={String(value["notify"])}
        options={[
          { value: "never", label: "nobody" },
          { value: "trouble", label: "on trouble only" },
          { value: "always", label: "after every run" },
        ]}
        onChange={(v) => set({ notify: v })}
      />
      <Field
        label="Whom, separated by commas"
        value={text ?? value.notify_to.join(", ")}
        wrong={edit.wrong("notify_to")}
        onChange={(e) => {
          setText(e.target.value);
          set({
            notify_to: [
              ...new Set(
                e.target.value
                  .split(",")
                  .map((x) => x.trim())
                  .filter(Boolean),
              ),
            ],
          });
        }}
      />
    </>
  );
}
