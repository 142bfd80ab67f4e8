import { useEffect } from "react";
import { useLocation, useSearchParams } from "react-router";
import type { LedgerFilter } from "../api/runQueries";
import { Button } from "../ui/Button";
import { Parts } from "../ui/Parts";
import { useWorkbench } from "../workbench/store";
import { ImportSheet } from "./ImportSheet";
import { Ledger } from "./Ledger";
import { MailSheet } from "./MailSheet";
import { MorningReport } from "./MorningReport";
import { NightSheet } from "./NightSheet";
import { PastNights } from "./PastNights";
import { Rehearsal } from "./Rehearsal";
import { RunnerSheet } from "./RunnerSheet";
import { Tonight } from "./Tonight";

const PARTS = [
  { part: "tonight", title: "Tonight" },
  { part: "nights", title: "Past nights" },
  { part: "ledger", title: "Ledger" },
] as const;

const SHEETS = ["runner", "mail", "import"] as const;
const SHEET_NAMES = { runner: "Runner", mail: "Mail", import: "Import" };

const FILTERS = ["machine", "job", "outcome", "from", "to"] as const;

/** Runs: tonight, the nights before, and every machine-run of them. */
export function Runs() {
  const { plan } = useWorkbench();
  const { pathname } = useLocation();
  const [search, setSearch] = useSearchParams();
  const part = search.get("part") ?? "tonight";
  const chosen = search.get("run");
  const night = search.get("night");
  const sheet = search.get("sheet");
  const set = (changes: Record<string, string | null | undefined>) =>
    setSearch(
      (before) => {
        const after = new URLSearchParams(before);
        for (const [key, value] of Object.entries(changes))
          if (value) after.set(key, value);
          else after.delete(key);
        return after;
      },
      { replace: true },
    );
  const link = (changes: Record<string, string>) => {
    const after = new URLSearchParams(search);
    for (const [key, value] of Object.entries(changes)) after.set(key, value);
    after.delete("run");
    return `${pathname}?${after.toString()}`;
  };
  useEffect(() => {
    const close = (event: KeyboardEvent) => {
      if (event.key === "Escape" && !event.defaultPrevented) set({ run: null, sheet: null });
    };
    window.addEventListener("keydown", close);
    return () => window.removeEventListener("keydown", close);
  });
  const filter: LedgerFilter = Object.fromEntries(FILTERS.map((key) => [key, search.get(key)]));
  return (
    <main className="flex min-h-0 flex-1 flex-col print:block">
      <Parts
        label="Parts of Runs"
        parts={PARTS}
        chosen={part}
        onChoose={(each) => set({ part: each, run: null })}
      >
        <span className="flex-1" />
        <span className="flex items-center">
          <Button
            small
            look="plain"
            aria-pressed={part === "rehearsal"}
            onClick={() => set({ part: part === "rehearsal" ? null : "rehearsal", run: null })}
          >
            Rehearse
          </Button>
          <Button
            small
            look="plain"
            aria-pressed={part === "sheet"}
            onClick={() => set({ part: part === "sheet" ? null : "sheet", run: null })}
          >
            Night sheet
          </Button>
          {SHEETS.map((each) => (
            <Button
              key={each}
              small
              look="plain"
              aria-pressed={sheet === each}
              onClick={() => set({ sheet: sheet === each ? null : each, run: null })}
            >
              {SHEET_NAMES[each]}
            </Button>
          ))}
        </span>
      </Parts>
      <div className="flex min-h-0 flex-1 narrow:flex-col print:block">
        {part === "ledger" ? (
          <Ledger
            plan={plan.id}
            zone={plan.time_zone}
            jobs={plan.jobs}
            filter={filter}
            onFilter={(next) => set({ ...next })}
          />
        ) : part === "nights" ? (
          <PastNights
            plan={plan.id}
            zone={plan.time_zone}
            night={night}
            chosen={chosen}
            reportLink={(date) => link({ part: "report", night: date })}
            onNight={(date) => set({ night: date, run: null })}
            onChoose={(run) => set({ run })}
          />
        ) : part === "sheet" ? (
          <NightSheet />
        ) : part === "rehearsal" ? (
          <Rehearsal />
        ) : part === "report" && night ? (
          <MorningReport plan={plan.id} night={night} back={link({ part: "nights", night })} />
        ) : (
          <Tonight plan={plan.id} chosen={chosen} onChoose={(run) => set({ run })} />
        )}
        {sheet === "runner" && !chosen && (
          <RunnerSheet plan={plan.id} onClose={() => set({ sheet: null })} />
        )}
        {sheet === "import" && !chosen && (
          <ImportSheet
            plan={plan.id}
            zone={plan.time_zone}
            jobs={plan.jobs}
            onClose={() => set({ sheet: null })}
          />
        )}
        {sheet === "mail" && !chosen && (
          <MailSheet plan={plan.id} onClose={() => set({ sheet: null })} />
        )}
      </div>
    </main>
  );
}
