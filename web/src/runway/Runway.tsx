import { Parts } from "../ui/Parts";
import { useAddress } from "../workbench/address";
import { Growth } from "./Growth";
import { NightsAhead } from "./NightsAhead";
import { OccupancyTable } from "./OccupancyTable";
import { Purchase } from "./Purchase";
import { Space } from "./Space";

const PARTS = [
  { part: "space", title: "Space" },
  { part: "nights", title: "Nights" },
  { part: "growth", title: "Growth and changes" },
  { part: "occupancy", title: "Occupancy" },
  { part: "purchase", title: "The next purchase" },
] as const;

/** Runway: how long the space and the nights last, who takes what, what to buy by when. */
export function Runway() {
  const { search, set } = useAddress();
  const part = search.get("part") ?? "space";
  return (
    <div className="flex min-h-0 flex-1 flex-col print:block">
      <Parts
        label="Parts of Runway"
        parts={PARTS}
        chosen={part}
        onChoose={(each) =>
          set({ part: each === "space" ? null : each, repository: null, job: null, clause: null })
        }
      />
      {part === "nights" ? (
        <NightsAhead />
      ) : part === "growth" ? (
        <Growth />
      ) : part === "occupancy" ? (
        <OccupancyTable />
      ) : part === "purchase" ? (
        <Purchase />
      ) : (
        <Space />
      )}
    </div>
  );
}
