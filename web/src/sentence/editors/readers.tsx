import { Choices } from "../../ui/Choice";
import { Pick } from "../../ui/controls";
import { type Choices as Offered } from "../../api/jobQueries";
import { type Props } from "./props";

export function ReadersEditor({ edit, offered }: Props & { offered: Offered }) {
  const { value, set } = edit;
  return (
    <>
      <Choices
        lead="Read by"
        said={value.proxies ? value.proxies.join(", ") || "no proxy" : "any proxy"}
        values={value.proxies ?? []}
        options={offered.proxies.map((p) => ({ value: p, label: p }))}
        onChange={(v) => set({ proxies: v.length ? v : null })}
      />
      <Pick
        label="Transport"
        value={String(value["transport"])}
        options={[
          { value: "auto", label: "the best of each disk" },
          { value: "direct", label: "direct from storage only" },
          { value: "hot_add", label: "hot-add only" },
          { value: "network", label: "network only" },
        ]}
        onChange={(v) => set({ transport: v })}
      />
      <p className="text-ink-2">
        Servers are read by their agent. Paths, Reach shows why a proxy serves a machine.
      </p>
    </>
  );
}
