import { Allowed } from "../workbench/Allowed";
import { TableFiles } from "../ui/TableFiles";
import { ProblemLines } from "./ProblemLines";
import { useQuery } from "@tanstack/react-query";
import { ChevronRight } from "lucide-react";
import { useState } from "react";
import { WeekLines } from "./WeekLines";
import { useWorkbench } from "../workbench/store";
import { Button } from "../ui/Button";
import { Choice } from "../ui/Choice";
import { Sheet } from "../ui/Sheet";
import { LearnedOtherwise } from "./LearnedOtherwise";
import { count } from "../ui/words";
import {
  accept,
  type Difference,
  dismiss,
  effectQuery,
  inboxQuery,
  reopen,
  setStandingRule,
} from "../api/estateQueries";
import { useEstateChange } from "./useEstateChange";

const TITLES: Record<Difference["kind"], string> = {
  new: "New",
  gone: "Gone",
  moved: "Moved",
  grown: "Grown or shrunk",
  renamed: "Renamed",
  changed: "Changed",
};
const KINDS = Object.keys(TITLES) as Difference["kind"][];

/** What sources say and the plan has otherwise: take it, or leave it. */
export function InboxSheet({ onClose }: { onClose: () => void }) {
  const { plan } = useWorkbench();
  const answer = useQuery(inboxQuery(plan.id));
  const { run, busy, problem } = useEstateChange();
  const differences = answer.data?.differences ?? [];
  const idsOf = (answer.data?.ids_by_kind ?? {}) as Partial<Record<Difference["kind"], number[]>>;
  const all = Object.values(idsOf).flat();
  return (
    <Sheet
      label="Inbox of differences"
      title={answer.data ? count(answer.data.total, "difference") : "Inbox"}
      onClose={onClose}
    >
      <p className="mb-2 text-ink-2">
        What the sources say and the plan has otherwise. Nothing is taken by itself, and what is
        taken can be undone.{" "}
        <TableFiles of={`plans/${plan.id}/tables/differences`} what="Differences" />
      </p>
      {answer.error && <p role="alert">{answer.error.message}</p>}
      <ProblemLines problem={problem} />
      {differences.length > 0 && (
        <>
          <p className="flex gap-2">
            <Allowed>
              <Button
                look="strong"
                disabled={busy}
                onClick={() => void run(() => accept(plan.id, all))}
              >
                Take all {all.length}
              </Button>
            </Allowed>
            <Button disabled={busy} onClick={() => void run(() => dismiss(plan.id, all))}>
              Leave all
            </Button>
          </p>
          <WeekEffect ids={all} />
        </>
      )}
      {answer.data && differences.length === 0 && (
        <p>The plan has what the sources say. Discovery, under Sources, fills this list.</p>
      )}
      {KINDS.map((kind) => {
        const ids = idsOf[kind] ?? [];
        const own = differences.filter((d) => d.kind === kind);
        return ids.length ? (
          <Kind
            key={kind}
            kind={kind}
            ids={ids}
            differences={own}
            rule={(answer.data?.rules as Record<string, string>)[kind] ?? null}
          />
        ) : null;
      })}
      <LearnedOtherwise plan={plan.id} />
      {answer.data && answer.data.dismissed > 0 && <Dismissed number={answer.data.dismissed} />}
      {answer.data && (
        <Rules
          rules={answer.data.rules as Record<string, string>}
          shown={new Set(KINDS.filter((kind) => idsOf[kind]?.length))}
        />
      )}
    </Sheet>
  );
}

function Kind({
  kind,
  ids,
  differences,
  rule,
}: {
  kind: Difference["kind"];
  ids: number[];
  differences: Difference[];
  rule: string | null;
}) {
  const { plan } = useWorkbench();
  const { run, busy, problem } = useEstateChange();
  return (
    <section aria-label={TITLES[kind]} className="mt-3 border-t border-rule pt-2">
      <div className="flex items-center gap-1">
        <h3 className="flex-1 font-semibold">
          {TITLES[kind]} <span className="font-normal text-ink-2">{ids.length}</span>
        </h3>
        <Allowed>
          <Button small disabled={busy} onClick={() => void run(() => accept(plan.id, ids))}>
            Take {ids.length > 1 ? "these" : "it"}
          </Button>
        </Allowed>
        <Allowed>
          <Button
            small
            look="plain"
            disabled={busy}
            onClick={() => void run(() => dismiss(plan.id, ids))}
          >
            Leave
          </Button>
        </Allowed>
      </div>
      <ProblemLines problem={problem} />
      <ul>
        {differences.map((difference) => (
          <Entry key={difference.id} difference={difference} />
        ))}
      </ul>
      {ids.length > differences.length && (
        <p className="text-ink-2">and {ids.length - differences.length} more</p>
      )}
      <Rule kind={kind} action={rule} />
    </section>
  );
}

function Entry({ difference }: { difference: Difference }) {
  const { plan } = useWorkbench();
  const { run, busy, problem } = useEstateChange();
  const [open, setOpen] = useState(false);
  return (
    <li className="py-1">
      <div className="flex items-start gap-1">
        <button
          type="button"
          aria-expanded={open}
          onClick={() => setOpen(!open)}
          className="flex min-w-0 flex-1 items-start gap-1 text-left hover:underline"
        >
          <ChevronRight
            size={14}
            aria-hidden
            className={`mt-0.5 shrink-0 transition-transform ${open ? "rotate-90" : ""}`}
          />
          <span className="min-w-0 [overflow-wrap:anywhere]">{difference.words}</span>
        </button>
        <Allowed>
          <Button
            small
            disabled={busy}
            aria-label={`Take: ${difference.words}`}
            onClick={() => void run(() => accept(plan.id, [difference.id]))}
          >
            Take
          </Button>
        </Allowed>
        <Allowed>
          <Button
            small
            look="plain"
            disabled={busy}
            aria-label={`Leave: ${difference.words}`}
            onClick={() => void run(() => dismiss(plan.id, [difference.id]))}
          >
            Leave
          </Button>
        </Allowed>
      </div>
      {difference.jobs.map((job) => (
        <p key={job.job} className="pl-[18px]">
          {job.words}
        </p>
      ))}
      {difference.kind === "new" &&
        difference.subject.kind === "machine" &&
        !difference.jobs.length && <p className="pl-[18px] text-barn">no job would protect it</p>}
      {open && (
        <div className="pl-[18px]">
          <p className="text-ink-2">said by {difference.source}</p>
          <WeekEffect ids={[difference.id]} />
        </div>
      )}
      <ProblemLines problem={problem} />
    </li>
  );
}

function WeekEffect({ ids }: { ids: number[] }) {
  const { plan, date } = useWorkbench();
  const effect = useQuery(effectQuery(plan.id, ids, date));
  if (effect.error)
    return (
      <p role="alert" className="text-barn">
        {effect.error.message}
      </p>
    );
  if (!effect.data)
    return (
      <p role="status" className="text-ink-2">
        Simulating the week …
      </p>
    );
  return <WeekLines nights={effect.data.nights} />;
}

function Rule({ kind, action }: { kind: Difference["kind"]; action: string | null }) {
  const { plan } = useWorkbench();
  const { run } = useEstateChange();
  return (
    <div className="-ml-1.5">
      <Choice
        lead="From now on"
        value={action ?? "ask"}
        options={[
          { value: "ask", label: "ask each time" },
          { value: "accept", label: "take them at once" },
          { value: "dismiss", label: "leave them at once" },
        ]}
        onChange={(to) =>
          void run(() =>
            setStandingRule(plan.id, kind, to === "ask" ? null : (to as "accept" | "dismiss")),
          )
        }
      />
    </div>
  );
}

/** Standing rules of kinds of which nothing is open now. */
function Rules({ rules, shown }: { rules: Record<string, string>; shown: ReadonlySet<string> }) {
  const others = KINDS.filter((kind) => !shown.has(kind));
  if (!others.length) return null;
  return (
    <details className="mt-3 border-t border-rule pt-2">
      <summary className="cursor-pointer">Standing rules of the other kinds</summary>
      {others.map((kind) => (
        <div key={kind} className="flex items-center gap-2">
          <span className="w-32">{TITLES[kind]}</span>
          <Rule kind={kind} action={rules[kind] ?? null} />
        </div>
      ))}
    </details>
  );
}

function Dismissed({ number }: { number: number }) {
  const { plan } = useWorkbench();
  const [open, setOpen] = useState(false);
  const answer = useQuery({ ...inboxQuery(plan.id, "dismissed"), enabled: open });
  const { run, busy } = useEstateChange();
  return (
    <section className="mt-3 border-t border-rule pt-2">
      <Button
        look="plain"
        className="underline"
        aria-expanded={open}
        onClick={() => setOpen(!open)}
      >
        {number} left as they were
      </Button>
      {open && (
        <ul>
          {answer.data?.differences.map((d) => (
            <li key={d.id} className="flex items-start gap-1 py-0.5">
              <span className="min-w-0 flex-1">{d.words}</span>
              <Button small disabled={busy} onClick={() => void run(() => reopen(plan.id, [d.id]))}>
                Back to the inbox
              </Button>
            </li>
          ))}
        </ul>
      )}
    </section>
  );
}
