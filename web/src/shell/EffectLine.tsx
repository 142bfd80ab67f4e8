import { useQueryClient } from "@tanstack/react-query";
import { type ReactNode } from "react";
import { useNavigate, useSearchParams } from "react-router";
import type { NightSummary } from "../api/client";
import { dateWords, dayClock, duration } from "../time/time";
import { AskButton } from "../ui/AskButton";
import { Button } from "../ui/Button";
import { count, percent, resource } from "../ui/words";
import { AdoptDialog } from "./AdoptDialog";
import { planOf } from "../workbench/address";
import { useMay, useOwnerInTheWay } from "../workbench/rights";
import { carry, shelfOf } from "../workbench/unsaved";
import { useAddress } from "../workbench/address";
import { copyDraft } from "../api/versionQueries";
import { refreshPlan } from "../api/planQueries";
import { useWorkbench } from "../workbench/store";

/** The address of a comparison of the adopted plan with a draft. */
export function withSide(search: URLSearchParams, draft: number): string {
  const kept = new URLSearchParams(planOf(search));
  kept.set("other", `draft:${draft}`);
  return kept.toString();
}

function Was({ now, was }: { now: ReactNode; was: ReactNode }) {
  return (
    <>
      <strong className="text-effect-strong">{now}</strong> <span>(was {was})</span>
    </>
  );
}

const past = (night: NightSummary) => (night.over_s > 0 ? duration(night.over_s) : "0 min");

function peakOf(night: NightSummary): string {
  const tight = night.tightest;
  return tight?.capacity ? percent(tight.peak / tight.capacity) : "0 %";
}

/** What the moves do to the night, in words; there only while the plan differs from the adopted. */
export function EffectLine() {
  const bench = useWorkbench();
  const {
    plan,
    draft,
    moves,
    considered,
    attempting,
    week,
    adoptedWeek,
    date,
    busy,
    problem,
    words,
  } = bench;
  const navigate = useNavigate();
  const client = useQueryClient();
  const [search] = useSearchParams();
  const mayPlan = useMay("plan");
  const owner = useOwnerInTheWay(draft);
  const { set } = useAddress();
  const mayChange = mayPlan && !owner;
  const copy = () => {
    if (draft)
      void copyDraft(draft, `${draft.name}, copy`)
        .then(async (made) => {
          carry(bench.shelf, shelfOf(plan.id, made.id));
          await refreshPlan(client, plan.id);
          set({ draft: String(made.id) });
        })
        .catch((error: Error) => bench.say(error.message));
  };
  const zone = plan.time_zone;
  const now = week.find((n) => n.date === date);
  const was = adoptedWeek.find((n) => n.date === date);
  const differs = moves.length > 0 || (draft?.changes.length ?? 0) > 0;
  if (!differs && !attempting && !considered.length && !problem) return null;
  const turned = week.filter((n, i) => n.date !== date && n.verdict !== adoptedWeek[i]?.verdict);
  const verdicts = [...new Set(turned.map((n) => n.verdict))];
  const end = (night: NightSummary) => (night.last_end ? dayClock(night.last_end, zone) : "none");
  const full = (night: NightSummary) => duration(night.tightest?.full_s ?? 0);
  return (
    <footer
      aria-label="Effect of the changes"
      className="print:hidden flex min-h-9 shrink-0 items-center gap-4 bg-effect-ground px-4 text-effect-ink narrow:flex-wrap narrow:gap-y-0 narrow:pb-1"
    >
      <p
        role={problem ? "alert" : "status"}
        aria-live="polite"
        className="min-w-0 flex-1 py-1 narrow:basis-full"
      >
        {problem ? (
          <strong className="text-effect-strong">{problem}</strong>
        ) : now && was ? (
          <>
            {words.length > 0 && (
              <span>
                {words.length > 1 && `${count(words.length, "change")}, the last: `}
                {words.at(-1)} ·{" "}
              </span>
            )}
            {now.last_end || was.last_end ? (
              <>
                Last run {dateWords(date).short} ends <Was now={end(now)} was={end(was)} />
              </>
            ) : (
              `No run ${dateWords(date).short}`
            )}
            {" · "}late <Was now={past(now)} was={past(was)} />
            {now.tightest && was.tightest && (
              <>
                {" · "}
                {now.tightest.name !== was.tightest.name ? (
                  <>
                    tightest{" "}
                    <Was now={resource(now.tightest.name)} was={resource(was.tightest.name)} />
                  </>
                ) : peakOf(now) === peakOf(was) ? (
                  <>
                    {resource(now.tightest.name)} full <Was now={full(now)} was={full(was)} />
                  </>
                ) : (
                  <>
                    {resource(now.tightest.name)} at most{" "}
                    <Was now={peakOf(now)} was={peakOf(was)} />
                  </>
                )}
              </>
            )}
            {" · "}problems <Was now={now.reasons.length} was={was.reasons.length} />
            {verdicts.map((verdict) => (
              <span key={verdict}>
                {" · "}
                {turned
                  .filter((n) => n.verdict === verdict)
                  .map((n) => dateWords(n.date).short)
                  .join(", ")}{" "}
                now <strong className="text-effect-strong">{verdict}</strong>
              </span>
            ))}
          </>
        ) : (
          "Simulating …"
        )}
      </p>
      {busy && <span aria-hidden>{busy === "saving" ? "saving …" : "simulating …"}</span>}
      <span className="flex items-center gap-1">
        {problem && (
          <Button look="onEffect" onClick={() => bench.say(null)}>
            Dismiss
          </Button>
        )}
        {differs && (mayChange || moves.length > 0) && (
          <Button look="onEffect" onClick={bench.undo} disabled={busy === "saving"}>
            Undo
          </Button>
        )}
        {mayPlan && owner && (
          <>
            <span>This draft is {owner}'s own</span>
            <Button look="onEffect" onClick={copy}>
              Go on in a copy
            </Button>
          </>
        )}
        {mayChange && draft?.can_redo && !moves.length && (
          <Button look="onEffect" onClick={bench.redo} disabled={busy === "saving"}>
            Redo
          </Button>
        )}
        {moves.length > 0 && (
          <>
            <AskButton
              look="onEffect"
              ask={moves.length > 1}
              question={`Discard ${count(moves.length, "move")}?`}
              onYes={bench.discard}
            >
              Discard
            </AskButton>
            {mayChange ? (
              <Button
                look="onEffect"
                className="font-bold"
                onClick={bench.save}
                disabled={busy === "saving"}
              >
                Save to draft
              </Button>
            ) : (
              !mayPlan && <span>You may look: this cannot be saved</span>
            )}
          </>
        )}
        {differs && draft && !moves.length && !considered.length && (
          <>
            <Button
              look="onEffect"
              onClick={() =>
                navigate({ pathname: `/compare/${date}`, search: withSide(search, draft.id) })
              }
            >
              Compare
            </Button>
            {mayChange && (
              <Button
                look="onEffect"
                className="font-bold"
                onClick={() => bench.setAdopting(true)}
                disabled={busy === "saving"}
              >
                Adopt
              </Button>
            )}
            <AdoptDialog open={bench.adopting} onOpen={bench.setAdopting} />
          </>
        )}
      </span>
    </footer>
  );
}
