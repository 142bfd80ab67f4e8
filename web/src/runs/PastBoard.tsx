import { useAddress } from "../workbench/address";
import { useKeys } from "../workbench/keys";
import { useWorkbench } from "../workbench/store";
import { OpenNight } from "./PastNights";

/** The board of a night that is over: what was predicted as outlines, what ran as solid bars. */
export function PastBoard() {
  const { plan, date } = useWorkbench();
  const { search, set } = useAddress();
  const report = new URLSearchParams(search);
  report.set("part", "report");
  report.set("night", date);
  report.delete("run");
  useKeys({ Escape: () => set({ run: null }) });
  return (
    <main aria-label="Board" className="flex min-h-0 flex-1 flex-col">
      <OpenNight
        plan={plan.id}
        zone={plan.time_zone}
        shown={date}
        chosen={search.get("run")}
        onChoose={(run) => set({ run })}
        report={{ pathname: `/runs/${date}`, search: report.toString() }}
      />
    </main>
  );
}
