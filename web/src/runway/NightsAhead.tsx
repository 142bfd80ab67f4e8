import { Allowed } from "../workbench/Allowed";
import { useMutation, useQuery } from "@tanstack/react-query";
import { clsx } from "clsx";
import { useNavigate, useSearchParams } from "react-router";
import { computationsQuery, isStale, useComputing } from "../api/balanceQueries";
import {
  type Ahead,
  beginNightsAhead,
  type MonthAhead,
  runwayQuery,
  type WindowAhead,
} from "../api/runwayQueries";
import { dateWords, duration, longDate } from "../time/time";
import { Button } from "../ui/Button";
import { count, resource } from "../ui/words";
import { planOf } from "../workbench/address";
import { useWorkbench } from "../workbench/store";
import { AskedFor, MonthsDone, NotDone, useAsked } from "./Asking";
import { dateOf, dayWords, monthWords } from "./axis";
import { useMeant } from "./meant";

const nightWords = (date: string) => `${dateWords(date).short} ${longDate(date)}`;

/** Why a night is late or lacks machines, in a few words. */
export function reasonWords(window: WindowAhead, nameOf: (job: string) => string): string {
  const reason = window.reason;
  if (!reason) return "";
  const who = reason.job ? nameOf(reason.job) : "a machine";
  const where = reason.waited_for ?? reason.squeeze;
  const by = where ? `, ${resource(where)}` : "";
  switch (reason.kind) {
    case "over the window":
      return `${who} ends ${duration(reason.seconds ?? 0)} late${by}`;
    case "close to the end":
      return `${who} ends ${duration(reason.seconds ?? 0)} before its window${by}`;
    case "skipped":
      return `a run of ${who} is skipped`;
    default:
      return `${who}: ${count(reason.machines, "machine")} ${reason.kind}${by}`;
  }
}

/** Whether a computation was asked about what is shown. */
export const isFor = (
  found: { asked: Record<string, unknown> },
  draft: { id: number } | null,
  ahead: Ahead,
) =>
  (found.asked["draft"] ?? null) === (draft?.id ?? null) &&
  found.asked["months"] === ahead.months &&
  (found.asked["feared_growth"] ?? null) === ahead.feared_growth &&
  found.asked["provisioned_grows"] === ahead.provisioned_grows;

/** Every night of every month ahead, by window: the month in which it stops to hold, and why. */
export function NightsAhead() {
  const { plan, draft, jobs } = useWorkbench();
  const { ahead: usual } = useMeant();
  const [search] = useSearchParams();
  const navigate = useNavigate();
  const ahead = useAsked();
  const found = useQuery(computationsQuery(plan.id, "nights ahead"));
  const computing = useComputing(plan.id, "nights ahead");
  const begin = useMutation({
    mutationFn: () => beginNightsAhead(plan.id, draft, ahead),
    onSuccess: computing.known,
  });
  const space = useQuery(runwayQuery(plan, draft, usual, null, []));
  const shown = found.data?.find((each) => isFor(each, draft, ahead));
  const running = shown?.state === "running";
  const told = shown?.result ?? shown?.progress.found ?? null;
  const months = told?.months ?? [];
  const windows = [...new Set(months.flatMap((month) => month.windows.map((w) => w.window)))];
  const nameOf = (job: string) => jobs.get(job)?.name ?? job;
  return (
    <main className="min-h-0 flex-1 overflow-y-auto px-4 pb-4" aria-label="Nights ahead">
      <h1 className="sr-only">Runway: Nights</h1>
      <div className="flex flex-wrap items-center gap-2 pt-1">
        <AskedFor lead="Look ahead" />
        <Allowed>
          <Button
            look="strong"
            disabled={running || begin.isPending}
            onClick={() => begin.mutate()}
          >
            Simulate the nights
          </Button>
        </Allowed>
        {running && (
          <MonthsDone
            found={shown}
            label="Months simulated"
            months={ahead.months}
            onCancel={() => computing.cancel.mutate(shown.id)}
          />
        )}
      </div>
      {begin.error && (
        <p role="alert" className="text-barn">
          {begin.error.message}
        </p>
      )}
      <NotDone found={shown} />
      {!months.length && !running && (
        <p className="max-w-[72ch] py-3 text-ink-2">
          Space is bought months ahead; nights stop fitting months ahead too. This simulates every
          night of every month, with the sizes that machines will have by then and the points that
          will exist, and tells for each window in which month it stops to hold, and why.
        </p>
      )}
      {shown && isStale(shown, plan) && months.length > 0 && (
        <p role="status" className="py-1 text-hay-text">
          The plan has been changed since; these nights were simulated before that.
        </p>
      )}
      {months.length > 0 && (
        <>
          <ul className="py-2 text-lg leading-snug" aria-label="The nights in words">
            {windows.map((window) => (
              <li key={window}>{windowSentence(window, months, nameOf)}</li>
            ))}
          </ul>
          <div className="overflow-x-auto">
            <table className="border-collapse text-sm">
              <caption className="sr-only">Each window month by month</caption>
              <thead>
                <tr>
                  <th scope="col" className="pr-3 text-left font-medium text-ink-2">
                    Window
                  </th>
                  {months.map((month) => (
                    <th
                      key={month.month}
                      scope="col"
                      className={clsx(
                        "px-0.5 pb-0.5 text-left align-bottom text-xs font-normal whitespace-nowrap text-ink-2",
                        month.month.endsWith("-01") && "font-semibold",
                      )}
                    >
                      {monthWords(month.month).slice(0, 3)}
                      <span className="block">
                        {month.month.endsWith("-01") || month === months[0]
                          ? month.month.slice(0, 4)
                          : "\u00a0"}
                      </span>
                    </th>
                  ))}
                </tr>
              </thead>
              <tbody>
                {windows.map((window) => (
                  <tr key={window}>
                    <th scope="row" className="pr-3 text-left font-semibold whitespace-nowrap">
                      {window}
                    </th>
                    {months.map((month) => (
                      <Cell
                        key={month.month}
                        month={month}
                        window={month.windows.find((w) => w.window === window)}
                        nameOf={nameOf}
                        onOpen={(date) =>
                          void navigate({ pathname: `/board/${date}`, search: planOf(search) })
                        }
                      />
                    ))}
                  </tr>
                ))}
                {space.data?.repositories
                  .filter((life) => life.capacity_gib !== null)
                  .map((life) => (
                    <tr key={life.id}>
                      <th scope="row" className="pr-3 text-left font-normal whitespace-nowrap">
                        space of {life.id}
                      </th>
                      {months.map((month) => {
                        const full =
                          life.full_at !== null &&
                          dateOf(life.full_at, plan.time_zone) < `${month.month}-32`;
                        return (
                          <td key={month.month} className="p-0.5">
                            <span
                              className={clsx(
                                "block h-6 w-[38px] border px-0.5 text-xs leading-[22px]",
                                full ? "late-hatch border-barn" : "border-rule",
                              )}
                            >
                              {!full && <span className="text-ink-2">room</span>}
                              {full && <span className="bg-surface px-0.5 text-barn">full</span>}
                            </span>
                          </td>
                        );
                      })}
                    </tr>
                  ))}
              </tbody>
            </table>
          </div>
          <p className="pt-2 text-xs text-ink-2">
            ✕: so many nights are over. A month begins a week early, so that what one night leaves
            to the next is there. Choose a month to see its first such night on the board, as far as
            that reaches.
          </p>
          <ul className="pt-2 text-sm">
            {space.data?.repositories
              .filter((life) => life.full_at)
              .map((life) => (
                <li key={life.id}>
                  {life.id} is full on {dayWords(life.full_at!, plan.time_zone)}.
                </li>
              ))}
          </ul>
        </>
      )}
    </main>
  );
}

/** When a window stops to hold, in a sentence. */
export function windowSentence(
  window: string,
  months: readonly MonthAhead[],
  nameOf: (job: string) => string,
): string {
  const found = months.flatMap((month) =>
    month.windows.filter((w) => w.window === window).map((w) => ({ month, w })),
  );
  const first = found.find(({ w }) => w.verdict === "over");
  if (!first) {
    const tight = found.find(({ w }) => w.verdict === "tight");
    return tight
      ? `Window ${window} holds through ${monthWords(months.at(-1)!.month)}; it gets tight in ${monthWords(tight.month.month)}: ${reasonWords(tight.w, nameOf)}.`
      : `Window ${window} holds through ${monthWords(months.at(-1)!.month)}.`;
  }
  const again = found.slice(found.indexOf(first)).every(({ w }) => w.verdict === "over");
  const since = first.month === months[0] ? "does not hold now" : "stops to hold";
  return `Window ${window} ${since}: ${count(first.w.nights_over, "night")} over in ${monthWords(first.month.month)}, the first on ${nightWords(first.w.first_over!)}. ${reasonWords(first.w, nameOf)}.${again ? "" : " In some later months it holds again."}`;
}

function Cell({
  month,
  window,
  nameOf,
  onOpen,
}: {
  month: MonthAhead;
  window: WindowAhead | undefined;
  nameOf: (job: string) => string;
  onOpen: (date: string) => void;
}) {
  if (!window)
    return (
      <td className="p-0.5">
        <span className="block h-6 w-[38px] px-0.5 text-xs text-ink-2">–</span>
      </td>
    );
  const why = reasonWords(window, nameOf);
  const label = `${monthWords(month.month)}: ${window.verdict}${
    window.nights_over ? `, ${count(window.nights_over, "night")} over` : ""
  }${why ? `; ${why}` : ""}`;
  const box = "block h-6 w-[38px] border px-0.5 text-left text-xs leading-[22px]";
  if (!window.worst)
    return (
      <td className="p-0.5">
        <span className={clsx(box, "border-rule text-ink-2")} title={label}>
          fits
        </span>
      </td>
    );
  return (
    <td className="p-0.5">
      <button
        type="button"
        aria-label={`${label}: see ${nightWords(window.first_over ?? window.worst)}`}
        title={label}
        onClick={() => onOpen(window.first_over ?? window.worst!)}
        className={clsx(
          box,
          window.verdict === "over"
            ? "border-barn font-semibold text-barn"
            : "border-hay text-hay-text",
        )}
      >
        {window.verdict === "over" ? `${window.nights_over} ✕` : "tight"}
      </button>
    </td>
  );
}
