import { TableFiles } from "../ui/TableFiles";
import { useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { Link } from "react-router";
import type { Draft } from "../api/client";
import { planQuery, refreshPlan, sessionQuery, startDraft } from "../api/planQueries";
import {
  adoptionsQuery,
  carryOver,
  copyDraft,
  discardDraft,
  goBack,
  renameDraft,
  shareDraft,
} from "../api/versionQueries";
import { useMay, useOwnerInTheWay } from "../workbench/rights";
import { useAddress } from "../workbench/address";
import { useWorkbench } from "../workbench/store";
import { dateClock } from "../time/time";
import { AskButton } from "../ui/AskButton";
import { Button } from "../ui/Button";
import { count } from "../ui/words";

/** The drafts side by side, what was adopted, and the way back. */
export function Drafts() {
  const { plan, draft, say, date } = useWorkbench();
  const { search, set } = useAddress();
  const client = useQueryClient();
  const adopted = useQuery(planQuery(plan.id, null));
  const adoptions = useQuery(adoptionsQuery(plan.id));
  const mayPlan = useMay("plan");
  const [name, setName] = useState("");
  const drafts = adopted.data?.open_drafts ?? [];
  const work = async (doing: Promise<unknown>) => {
    try {
      await doing;
    } catch (error) {
      say((error as Error).message);
    }
    await refreshPlan(client, plan.id);
  };
  const to = (one: string, other: string) => {
    const kept = new URLSearchParams({ one, other });
    for (const key of ["plan", "draft"]) if (search.get(key)) kept.set(key, search.get(key)!);
    return { pathname: `/compare/${date}`, search: kept.toString() };
  };
  return (
    <div
      className="min-h-0 flex-1 overflow-auto px-4 pb-4"
      tabIndex={0}
      role="region"
      aria-label="Drafts and what was adopted"
    >
      <form
        className="flex items-center gap-2 py-1"
        onSubmit={(event) => {
          event.preventDefault();
          if (name.trim())
            void work(
              startDraft(plan.id, name.trim()).then((made) => set({ draft: String(made.id) })),
            ).then(() => setName(""));
        }}
      >
        {mayPlan && (
          <>
            <input
              aria-label="Name of a new draft"
              placeholder="Name of a new draft"
              value={name}
              onChange={(e) => setName(e.target.value)}
              className="h-7 w-56 rounded-[3px] border border-rule-strong bg-raised px-2"
            />
            <Button type="submit" disabled={!name.trim()}>
              Start draft
            </Button>
          </>
        )}
        <span className="flex-1" />
        <Button
          look="plain"
          aria-pressed={draft === null}
          className={draft === null ? "bg-closed font-semibold" : ""}
          onClick={() => set({ draft: "none" })}
        >
          Look at the adopted plan
        </Button>
      </form>
      {!drafts.length && (
        <p className="py-2">
          No draft is open. The first change of anything starts one; a draft is previewed everywhere
          and changes nothing until it is adopted.
        </p>
      )}
      <div className="grid grid-cols-[repeat(auto-fill,minmax(300px,1fr))] gap-3">
        {drafts.map((each) => (
          <DraftCard
            key={each.id}
            draft={each}
            inHand={draft?.id === each.id}
            stale={each.base_version !== plan.adopted_version}
            compare={
              <Link className="underline underline-offset-2" to={to("adopted", `draft:${each.id}`)}>
                Compare with the adopted plan
              </Link>
            }
            others={drafts
              .filter((d) => d.id !== each.id)
              .map((d) => (
                <Link
                  key={d.id}
                  className="underline underline-offset-2"
                  to={to(`draft:${d.id}`, `draft:${each.id}`)}
                >
                  with {d.name}
                </Link>
              ))}
            onChoose={() => set({ draft: String(each.id) })}
            onWork={(doing) => void work(doing)}
          />
        ))}
      </div>
      <h2 className="pt-4 pb-1 text-lg font-semibold">
        What was adopted{" "}
        <TableFiles of={`plans/${plan.id}/tables/adoptions`} what="What was adopted" />
      </h2>
      {adoptions.data?.length === 0 && (
        <p className="text-ink-2">Nothing yet but the plan that was loaded.</p>
      )}
      <ol>
        {adoptions.data?.map((each) => (
          <li key={each.id} className="border-t border-rule py-1.5">
            <p>
              <strong>{dateClock(each.at, plan.time_zone)}</strong> by {each.actor}
              {each.in_force && <span className="font-semibold"> · in force</span>}
              {each.note && <span>: “{each.note}”</span>}
            </p>
            <p className="text-ink-2">
              {each.words.slice(0, 3).join("; ")}
              {each.words.length > 3 && `; and ${each.words.length - 3} more`}
            </p>
            {!each.kept && (
              <p className="text-ink-2">The plans before and after are no longer kept.</p>
            )}
            {each.kept && each.before_version !== null && (
              <p className="flex gap-3">
                <Link
                  className="underline underline-offset-2"
                  to={to(`version:${each.before_version}`, `version:${each.version}`)}
                >
                  What it changed
                </Link>
                {mayPlan && each.in_force && (
                  <AskButton
                    small
                    question="Go back to the plan before?"
                    detail={`It is adopted again, without: ${each.words.slice(0, 4).join("; ")}${
                      each.words.length > 4 ? `; and ${each.words.length - 4} more` : ""
                    }.`}
                    onYes={() =>
                      void work(
                        goBack(
                          plan.id,
                          each.id,
                          `back from what was adopted ${dateClock(each.at, plan.time_zone)}`,
                        ),
                      )
                    }
                  >
                    Go back to what was before
                  </AskButton>
                )}
              </p>
            )}
          </li>
        ))}
      </ol>
    </div>
  );
}

function DraftCard({
  draft,
  inHand,
  stale,
  compare,
  others,
  onChoose,
  onWork,
}: {
  draft: Draft;
  inHand: boolean;
  stale: boolean;
  compare: React.ReactNode;
  others: React.ReactNode[];
  onChoose: () => void;
  onWork: (doing: Promise<unknown>) => void;
}) {
  const [name, setName] = useState(draft.name);
  const me = useQuery(sessionQuery).data?.name;
  const mayPlan = useMay("plan");
  const administers = useMay("administer");
  const changeable = useOwnerInTheWay(draft) === null && mayPlan;
  return (
    <section
      aria-label={`Draft ${draft.name}`}
      className={inHand ? "border-2 border-ink bg-surface p-3" : "border border-rule-strong p-3"}
    >
      <form
        className="flex gap-1"
        onSubmit={(e) => {
          e.preventDefault();
          if (name.trim() && name !== draft.name) onWork(renameDraft(draft, name.trim()));
        }}
      >
        <input
          aria-label={`Name of the draft ${draft.name}`}
          value={name}
          readOnly={!changeable}
          onChange={(e) => setName(e.target.value)}
          className="h-7 min-w-0 flex-1 bg-transparent font-semibold"
        />
        {name !== draft.name && (
          <Button small type="submit">
            Rename
          </Button>
        )}
      </form>
      <p className="text-ink-2">
        {count(draft.changes.length, "change")}
        {draft.undone.length > 0 && `, ${draft.undone.length} undone`}
        {inHand && " · in hand"}
        {draft.owner && ` · ${draft.owner === me ? "yours" : `${draft.owner}'s`}`}
        {draft.owner && (draft.shared ? ", shared" : ", not shared")}
      </p>
      {stale && (
        <p className="text-hay-text">
          Another plan was adopted since.{" "}
          {changeable && (
            <Button small onClick={() => onWork(carryOver(draft))}>
              Carry it over
            </Button>
          )}
        </p>
      )}
      <ol
        className="my-1 max-h-36 overflow-y-auto"
        tabIndex={0}
        aria-label={`Changes of ${draft.name}`}
      >
        {draft.changes.map((change, i) => (
          <li key={i} className="border-t border-rule py-0.5 text-xs">
            {change.words}
            {change.actor && <span className="text-ink-2"> · {change.actor}</span>}
          </li>
        ))}
      </ol>
      <p className="flex flex-wrap gap-x-3 text-xs">
        {compare}
        {others}
      </p>
      <p className="mt-1 flex flex-wrap gap-1">
        {!inHand && (
          <Button small onClick={onChoose}>
            Open
          </Button>
        )}
        {mayPlan && (
          <Button small onClick={() => onWork(copyDraft(draft, `${draft.name}, copy`))}>
            Copy
          </Button>
        )}
        {draft.owner && (draft.owner === me || administers) && (
          <Button
            small
            title={
              draft.shared
                ? "Only its owner changes it then"
                : "All who may plan can change and adopt it then"
            }
            onClick={() => onWork(shareDraft(draft, !draft.shared))}
          >
            {draft.shared ? "Stop sharing" : "Share"}
          </Button>
        )}
        {changeable && (
          <AskButton
            small
            question={`Discard the draft ${draft.name}?`}
            detail={`Its ${count(draft.changes.length, "change")} would be gone.`}
            onYes={() => onWork(discardDraft(draft))}
          >
            Discard draft
          </AskButton>
        )}
      </p>
    </section>
  );
}
