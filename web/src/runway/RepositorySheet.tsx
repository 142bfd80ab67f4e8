import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import type { Operation } from "../api/client";
import {
  type Ahead,
  belowQuery,
  type Candidate,
  type RepositoryLife,
  type Runway,
  tiersQuery,
} from "../api/runwayQueries";
import { Button } from "../ui/Button";
import { NumberField } from "../ui/controls";
import { Sheet } from "../ui/Sheet";
import { count, gib, percent } from "../ui/words";
import { useConsiderWhileShown } from "../workbench/considering";
import { useWorkbench } from "../workbench/store";
import { dayWords, monthWords } from "./axis";
import { FullAt } from "./Panels";

/** One repository: what its jobs hold, what is held for them, what would keep it below. */
export function RepositorySheet({
  runway,
  id,
  ahead,
  cameFrom,
  onClose,
  onJob,
}: {
  runway: Runway;
  id: string;
  ahead: Ahead;
  /** The job that was looked at before: its line has the focus. */
  cameFrom: string | null;
  onClose: () => void;
  onJob: (job: string) => void;
}) {
  const { plan } = useWorkbench();
  const life = runway.repositories.find((each) => each.id === id);
  const zone = plan.time_zone;
  return (
    <Sheet label={`Repository ${id}`} title={id} onClose={onClose}>
      {!life ? (
        <p role="alert">There is no such repository in this plan.</p>
      ) : (
        <>
          <p className="mb-2">
            {gib(life.now_gib)} now, at most {gib(life.peak_gib)} on {dayWords(life.peak_at, zone)};{" "}
            <FullAt life={life} runway={runway} zone={zone} />.
          </p>
          <Jobs life={life} cameFrom={cameFrom} onJob={onJob} />
          <Held life={life} ahead={ahead} zone={zone} />
          {life.volumes.length > 0 && <Volumes life={life} zone={zone} />}
          {life.capacity_gib !== null && <Below key={id} life={life} ahead={ahead} />}
        </>
      )}
    </Sheet>
  );
}

function Jobs({
  life,
  cameFrom,
  onJob,
}: {
  life: RepositoryLife;
  cameFrom: string | null;
  onJob: (job: string) => void;
}) {
  const last = life.gib.length - 1;
  return (
    <section aria-label="Jobs in it" className="mb-3 border-t border-rule pt-2">
      <h3 className="font-semibold">Jobs in it</h3>
      <p className="mb-1 text-xs text-ink-2">Choose one to change how it is kept.</p>
      <table className="w-full text-sm">
        <thead className="text-ink-2">
          <tr>
            <th scope="col" className="text-left font-medium">
              Job
            </th>
            <th scope="col" className="text-right font-medium">
              now
            </th>
            <th scope="col" className="text-right font-medium">
              at the end
            </th>
          </tr>
        </thead>
        <tbody>
          {life.jobs.map((job) => (
            <tr key={job.job} className="border-t border-rule">
              <td className="py-0.5">
                <button
                  type="button"
                  data-job-in={job.job}
                  autoFocus={job.job === cameFrom}
                  className="text-left underline decoration-rule-strong decoration-dotted underline-offset-4 hover:bg-closed"
                  onClick={() => onJob(job.job)}
                >
                  {job.name}
                  {job.copies && <span className="text-ink-2"> (copies)</span>}
                </button>
              </td>
              <td className="text-right whitespace-nowrap">{gib(job.gib[0]!)}</td>
              <td className="text-right whitespace-nowrap">{gib(job.gib[last]!)}</td>
            </tr>
          ))}
          {life.rest_gib[last]! > 0 && (
            <tr className="border-t border-rule">
              <td className="text-ink-2">points of no job</td>
              <td className="text-right">{gib(life.rest_gib[0]!)}</td>
              <td className="text-right">{gib(life.rest_gib[last]!)}</td>
            </tr>
          )}
        </tbody>
      </table>
    </section>
  );
}

function Held({ life, ahead, zone }: { life: RepositoryLife; ahead: Ahead; zone: string }) {
  const { plan, draft } = useWorkbench();
  const tiers = useQuery({
    ...tiersQuery(plan, draft, ahead, life.id),
    enabled: life.tiers.length > 0 || life.immutable_days > 0,
  });
  const chained = Math.max(...life.chained_gib);
  const held = Math.max(...life.immutable_gib);
  const told = tiers.data;
  return (
    <section aria-label="What is held" className="mb-3 border-t border-rule pt-2">
      <h3 className="font-semibold">What is held, and where it lies</h3>
      <p>
        {chained > 0
          ? `Up to ${gib(chained)} that no rule wants stay because a chain needs them.`
          : "No chain holds anything that no rule wants."}{" "}
        {life.immutable_days > 0 && held > 0
          ? `Up to ${gib(held)} more stay because they are immutable for ${count(life.immutable_days, "day")}.`
          : ""}
      </p>
      {told?.held_until && (
        <p>
          {gib(told.held_gib)} of what is there now cannot be freed yet; the last of it on{" "}
          {dayWords(told.held_until, zone)}.
        </p>
      )}
      {told && told.tiers.length > 1 && (
        <table className="mt-1 w-full text-sm">
          <caption className="sr-only">Tiers of {life.id}</caption>
          <thead className="text-ink-2">
            <tr>
              <th scope="col" className="text-left font-medium">
                Lies in
              </th>
              <th scope="col" className="text-right font-medium">
                {monthWords(told.tiers[0]!.months[0]!.month)}
              </th>
              <th scope="col" className="text-right font-medium">
                {monthWords(told.tiers[0]!.months.at(-1)!.month)}
              </th>
            </tr>
          </thead>
          <tbody>
            {told.tiers.map((tier) => {
              const first = tier.months[0]!;
              const last = tier.months.at(-1)!;
              const cost = tier.months.reduce((sum, month) => sum + (month.cost ?? 0), 0);
              return (
                <tr key={tier.id} className="border-t border-rule align-top">
                  <th scope="row" className="text-left font-normal">
                    {tier.id || "the repository itself"}
                    <span className="block text-xs text-ink-2">
                      {tier.id !== "" && `from ${count(tier.after_days, "day")} on`}
                      {tier.delay_min > 0 && `, a restore waits ${tier.delay_min / 60} h for it`}
                      {tier.minimum_days > 0 && `, paid for ${count(tier.minimum_days, "day")}`}
                      {tier.price_per_tib_month !== null &&
                        `${tier.id ? ", " : ""}${cost.toLocaleString("en-GB", { maximumFractionDigits: 0 })} over these months`}
                    </span>
                  </th>
                  <td className="text-right">{gib(first.gib)}</td>
                  <td className="text-right">{gib(last.gib)}</td>
                </tr>
              );
            })}
          </tbody>
        </table>
      )}
    </section>
  );
}

function Volumes({ life, zone }: { life: RepositoryLife; zone: string }) {
  return (
    <section aria-label="Volumes" className="mb-3 border-t border-rule pt-2">
      <h3 className="font-semibold">Volumes of the pool</h3>
      <ul>
        {life.volumes.map((volume) => (
          <li key={volume.id}>
            {volume.id}: at most {gib(volume.peak_gib)} of {gib(volume.capacity_gib)}
            {volume.full_at && (
              <b className="text-barn">, full on {dayWords(volume.full_at, zone)}</b>
            )}
          </li>
        ))}
      </ul>
    </section>
  );
}

/** What a change does to the RPOs, in words. */
function rpoWords({ was, then }: NonNullable<Candidate["rpo_missed"]>): string {
  if (was === then)
    return then ? `${count(then, "machine")} miss their RPO, as now` : "every RPO is still met";
  return `${count(then, "machine")} would miss their RPO (now ${was})`;
}

/** What would keep it below a part of its space for some months: each answer was projected. */
function Below({ life, ahead }: { life: RepositoryLife; ahead: Ahead }) {
  const { plan, draft, put } = useWorkbench();
  const [part, setPart] = useState(80);
  const [months, setMonths] = useState(12);
  const [asked, setAsked] = useState<{ part: number; months: number } | null>(null);
  const [tried, setTried] = useState<Candidate | null>(null);
  const found = useQuery({
    ...belowQuery(
      plan,
      draft,
      { ...ahead, months: asked?.months ?? 12 },
      life.id,
      asked?.part ?? 0.8,
    ),
    enabled: asked !== null,
  });
  useConsiderWhileShown((tried?.operations ?? []) as Operation[]);
  const told = asked ? found.data : undefined;
  const line = (candidate: Candidate) => (
    <li key={candidate.words} className="border-t border-rule py-1.5">
      <p>{candidate.enough ? <b>{candidate.words}</b> : candidate.words}</p>
      <p className="text-sm">
        at most {gib(candidate.peak_gib)}, {percent(candidate.peak_gib / life.capacity_gib!)}
        {candidate.full_at && (
          <span className="text-barn"> · full {dayWords(candidate.full_at, plan.time_zone)}</span>
        )}
      </p>
      <ul className="text-sm text-ink-2">
        {candidate.costs.map((cost) => (
          <li key={cost}>{cost}</li>
        ))}
        {candidate.nights.map((night) => (
          <li key={night.date} className={night.verdict === "over" ? "text-barn" : ""}>
            night of {night.date}: {night.verdict} (was {night.was})
          </li>
        ))}
        {candidate.rpo_missed && (
          <li
            className={
              candidate.rpo_missed.then > candidate.rpo_missed.was ? "text-barn" : undefined
            }
          >
            {rpoWords(candidate.rpo_missed)}
          </li>
        )}
      </ul>
      <p className="mt-1 flex gap-2">
        <Button
          small
          aria-pressed={tried === candidate}
          onClick={() => setTried(tried === candidate ? null : candidate)}
        >
          {tried === candidate ? "Stop trying it" : "Try it"}
        </Button>
        <Button
          small
          onClick={() =>
            void put(candidate.operations as Operation[]).then((done) => done && setAsked(null))
          }
        >
          Add to draft
        </Button>
      </p>
    </li>
  );
  return (
    <section aria-label="What would keep it below" className="border-t border-rule pt-2">
      <h3 className="font-semibold">What would keep it below?</h3>
      <form
        className="grid grid-cols-2 gap-2"
        onSubmit={(event) => {
          event.preventDefault();
          setTried(null);
          setAsked({ part: part / 100, months });
        }}
      >
        <NumberField
          label="Below"
          unit="% of its space"
          value={part}
          wrong={part > 0 && part <= 100 ? null : "between 1 and 100"}
          onChange={(value) => value !== null && setPart(value)}
        />
        <NumberField
          label="For"
          unit="months"
          value={months}
          wrong={months >= 1 && months <= 36 ? null : "between 1 and 36"}
          onChange={(value) => value !== null && setMonths(value)}
        />
        <Button type="submit" disabled={!(part > 0 && part <= 100 && months >= 1 && months <= 36)}>
          Look for answers
        </Button>
      </form>
      {asked && found.isFetching && (
        <p role="status" className="mt-2">
          Projecting one change after the other …
        </p>
      )}
      {asked && found.error && (
        <p role="alert" className="mt-2 text-barn">
          {found.error.message}
        </p>
      )}
      {told && !found.isFetching && (
        <div className="mt-2">
          {told.peak_gib <= told.most_gib ? (
            <p role="status">
              It stays below as it is: at most {gib(told.peak_gib)} of {gib(told.most_gib)}.
            </p>
          ) : (
            <p role="status">
              {gib(told.peak_gib - told.most_gib)} too much at the peak.{" "}
              {told.candidates.some((each) => each.enough)
                ? "These changes are enough, each by itself:"
                : told.candidates.length
                  ? "No single change is enough:"
                  : "Nothing that can be changed here brings anything; more space would."}
            </p>
          )}
          <ol aria-label="Answers that are enough">
            {told.candidates.filter((each) => each.enough).map(line)}
          </ol>
          {told.together && (
            <>
              <p className="mt-2 font-semibold">
                {told.together.enough ? "Enough together" : "Not enough even together"}
              </p>
              <ol aria-label="Together">{line(told.together)}</ol>
            </>
          )}
          {told.candidates.some((each) => !each.enough) && (
            <>
              <p className="mt-2 font-semibold">What helps, each by itself</p>
              <ol aria-label="What helps">
                {told.candidates.filter((each) => !each.enough).map(line)}
              </ol>
            </>
          )}
        </div>
      )}
    </section>
  );
}
