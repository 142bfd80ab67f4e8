import { Parts } from "../ui/Parts";
import { useAddress } from "../workbench/address";
import { useMay } from "../workbench/rights";
import { Feeds } from "./Feeds";
import { OwnData } from "./OwnData";
import { People } from "./People";
import { ProviderForm } from "./ProviderForm";
import { Tokens } from "./Tokens";
import { Trail } from "./Trail";
import { You } from "./You";

const OWN = [{ part: "you", title: "You" }] as const;
const PLANNERS = [...OWN, { part: "feeds", title: "Calendars and timers" }] as const;
const ALL = [
  ...PLANNERS,
  { part: "people", title: "People" },
  { part: "tokens", title: "Tokens" },
  { part: "provider", title: "Identity provider" },
  { part: "trail", title: "Audit trail" },
  { part: "data", title: "Own data" },
] as const;

/** Who may do what here, and what was done. */
export function Settings() {
  const { search, set } = useAddress();
  const administers = useMay("administer");
  const plans = useMay("plan");
  const parts = administers ? ALL : plans ? PLANNERS : OWN;
  const asked = search.get("part") ?? "you";
  const part = parts.find((each) => each.part === asked)?.part ?? "you";
  return (
    <>
      <Parts
        label="Parts of Settings"
        parts={parts}
        chosen={part}
        onChoose={(next) => set({ part: next === "you" ? null : next })}
      />
      <main className="min-h-0 flex-1 overflow-y-auto px-4 pb-6" aria-label="Settings">
        <h1 className="sr-only">Settings: {ALL.find((each) => each.part === part)?.title}</h1>
        {part === "people" ? (
          <People />
        ) : part === "tokens" ? (
          <Tokens />
        ) : part === "provider" ? (
          <ProviderForm />
        ) : part === "trail" ? (
          <Trail />
        ) : part === "feeds" ? (
          <Feeds />
        ) : part === "data" ? (
          <OwnData />
        ) : (
          <You />
        )}
      </main>
    </>
  );
}
