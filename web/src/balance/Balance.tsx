import { useAddress } from "../workbench/address";
import { Button } from "../ui/Button";
import { HowSure } from "./HowSure";
import { Propose } from "./Propose";
import { WhatIf } from "./WhatIf";

const PANES = ["propose", "if", "sure"] as const;
type Pane = (typeof PANES)[number];
const TITLES: Record<Pane, string> = { propose: "Propose", if: "What if", sure: "How sure" };

/** Proposals for a better week, what would be if, and how sure the week is. */
export function Balance() {
  const { search, set } = useAddress();
  const shown = search.get("show") ?? "propose";
  const pane = (PANES as readonly string[]).includes(shown) ? (shown as Pane) : "propose";
  return (
    <main className="flex min-h-0 min-w-0 flex-1 flex-col" aria-label="Balance">
      <div className="flex items-center gap-3 px-4 pt-2 pb-1">
        <h1 className="text-xl font-semibold">Balance</h1>
        <nav aria-label="What of the balance" className="flex gap-1">
          {PANES.map((each) => (
            <Button
              key={each}
              look="plain"
              className={pane === each ? "bg-closed font-semibold" : ""}
              aria-current={pane === each ? "page" : undefined}
              onClick={() => set({ show: each === "propose" ? null : each })}
            >
              {TITLES[each]}
            </Button>
          ))}
        </nav>
      </div>
      {pane === "propose" && <Propose />}
      {pane === "if" && <WhatIf />}
      {pane === "sure" && <HowSure />}
    </main>
  );
}
