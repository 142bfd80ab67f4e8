import type { ReactNode } from "react";
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

/** One section: what it is, and what its settings change. */
export function Section({
  title,
  about,
  children,
}: {
  title: string;
  about: ReactNode;
  children: ReactNode;
}) {
  return (
    <section aria-label={title} className="border-b border-rule py-3">
      <h2 className="text-lg font-semibold">{title}</h2>
      <p className="mb-2 max-w-[80ch] text-ink-2">{about}</p>
      {children}
    </section>
  );
}

/** Something that is shown once, to be copied. */
export function Once({ children, secret }: { children: ReactNode; secret: string }) {
  return (
    <div role="status" className="my-2 max-w-[80ch] border border-rule-strong bg-raised p-2">
      <p>{children}</p>
      <code className="font-mono text-sm [overflow-wrap:anywhere]">{secret}</code>
    </div>
  );
}
