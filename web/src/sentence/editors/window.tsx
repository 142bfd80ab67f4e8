import { NumberField, Pick } from "../../ui/controls";
import { type Choices as Offered } from "../../api/jobQueries";
import { WINDOW_ENDS } from "./choices";
import { type Props } from "./props";

export function WindowEditor({ edit, look, offered }: Props & { offered: Offered }) {
  const { value, set } = edit;
  return (
    <>
      <Pick
        label="Window"
        value={(value["window"] as string | null) ?? ""}
        options={[
          {
            value: "",
            label: look?.default_window
              ? `${look.default_window}, the default of its machines`
              : "none: at any hour",
          },
          ...offered.windows,
        ]}
        onChange={(v) => set({ window: v || null })}
      />
      <Pick
        label="At its end"
        value={String(value["at_window_end"])}
        options={WINDOW_ENDS}
        onChange={(v) => set({ at_window_end: v })}
      />
      <NumberField
        label="Must start within"
        unit="min"
        value={value["start_within_min"] as number | null}
        empty="whenever it can"
        wrong={edit.wrong("start_within_min")}
        onChange={(v) => set({ start_within_min: v })}
      />
      <NumberField
        label="Is stopped after"
        unit="min"
        value={value["stop_after_min"] as number | null}
        empty="never"
        wrong={edit.wrong("stop_after_min")}
        onChange={(v) => set({ stop_after_min: v })}
      />
    </>
  );
}
