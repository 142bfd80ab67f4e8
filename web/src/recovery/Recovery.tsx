import { Parts } from "../ui/Parts";
import { useAddress } from "../workbench/address";
import { DayOfLoss } from "./DayOfLoss";
import { Points } from "./Points";
import { Promises } from "./Promises";
import { RestoreTests } from "./RestoreTests";

const PARTS = [
  { part: "loss", title: "The day of the loss" },
  { part: "points", title: "Points" },
  { part: "promises", title: "Promises" },
  { part: "tests", title: "Tests" },
] as const;

/** Recovery: what would come back when, the points of a machine, what is promised. */
export function Recovery() {
  const { search, set } = useAddress();
  const part = search.get("part") ?? "loss";
  return (
    <main className="flex min-h-0 flex-1 flex-col print:block" aria-label="Recovery">
      <Parts
        label="Parts of Recovery"
        parts={PARTS}
        chosen={part}
        onChoose={(each) => set({ part: each === "loss" ? null : each })}
      />
      <h1 className="sr-only">
        Recovery: {PARTS.find((each) => each.part === part)?.title ?? PARTS[0].title}
      </h1>
      {part === "points" ? (
        <Points />
      ) : part === "promises" ? (
        <Promises />
      ) : part === "tests" ? (
        <RestoreTests />
      ) : (
        <DayOfLoss />
      )}
    </main>
  );
}
