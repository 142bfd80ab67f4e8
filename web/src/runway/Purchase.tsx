import { Allowed } from "../workbench/Allowed";
import { useMutation, useQuery } from "@tanstack/react-query";
import { Printer } from "lucide-react";
import { useState } from "react";
import { computationsQuery, isStale, useComputing } from "../api/balanceQueries";
import type { Operation } from "../api/client";
import {
  beginPurchase,
  purchaseFile,
  type PurchaseItem,
  type Unmet,
  type WindowAhead,
} from "../api/runwayQueries";
import { Button } from "../ui/Button";
import { NumberField } from "../ui/controls";
import { count, money } from "../ui/words";
import { useWorkbench } from "../workbench/store";
import { dayWords, monthWords } from "./axis";
import { AskedFor, MonthsDone, NotDone, useAsked } from "./Asking";
import { useMeant } from "./meant";
import { isFor, reasonWords } from "./NightsAhead";

/** What is needed by when so that space and nights hold; to print, and to take to the budget. */
export function Purchase() {
  const { plan, draft, put, jobs } = useWorkbench();
  const { growth } = useMeant();
  const ahead = useAsked();
  const [reserve, setReserve] = useState(10);
  const found = useQuery(computationsQuery(plan.id, "purchase"));
  const computing = useComputing(plan.id, "purchase");
  const begin = useMutation({
    mutationFn: () => beginPurchase(plan.id, draft, ahead, reserve / 100),
    onSuccess: computing.known,
  });
  const shown = found.data?.find((each) => isFor(each, draft, ahead));
  const running = shown?.state === "running";
  const result = shown?.result;
  const items = [...(result?.space ?? []), ...(result?.items ?? [])];
  const sorted = [...items].sort((a, b) => (a.order_by < b.order_by ? -1 : 1));
  const once = items.filter((item) => !item.monthly && item.price !== null);
  const monthly = items.filter((item) => item.monthly && item.price !== null);
  const unpriced = items.filter((item) => item.price === null).length;
  const sum = (some: PurchaseItem[]) => some.reduce((total, item) => total + (item.price ?? 0), 0);
  const reserveAsked = Number((shown?.asked as { reserve?: number } | undefined)?.reserve ?? 0.1);
  return (
    <main className="min-h-0 flex-1 overflow-y-auto px-4 pb-4" aria-label="The next purchase">
      <h1 className="sr-only">Runway: The next purchase</h1>
      <div className="flex flex-wrap items-end gap-2 pt-1 print:hidden">
        <AskedFor lead="For" />
        <div className="w-36">
          <NumberField
            label="Space that stays free"
            unit="%"
            value={reserve}
            wrong={reserve >= 0 && reserve <= 90 ? null : "between 0 and 90"}
            onChange={(value) => value !== null && setReserve(value)}
          />
        </div>
        <span className="mb-2 flex items-center gap-2">
          <Allowed>
            <Button
              look="strong"
              disabled={running || begin.isPending || !(reserve >= 0 && reserve <= 90)}
              onClick={() => begin.mutate()}
            >
              Work out the purchase
            </Button>
          </Allowed>
          {running && (
            <MonthsDone
              found={shown}
              label="Months done"
              months={ahead.months}
              onCancel={() => computing.cancel.mutate(shown.id)}
            />
          )}
          {result && (
            <>
              <Button onClick={() => window.print()}>
                <Printer size={14} aria-hidden /> Print
              </Button>
              {(["csv", "xlsx"] as const).map((ending) => (
                <a
                  key={ending}
                  className="inline-flex h-7 items-center rounded-[3px] border border-rule-strong bg-surface px-2 hover:bg-closed"
                  href={purchaseFile(plan.id, shown.id, ending)}
                  download
                >
                  {ending === "csv" ? "CSV" : "Workbook"}
                </a>
              ))}
            </>
          )}
        </span>
      </div>
      {begin.error && (
        <p role="alert" className="text-barn">
          {begin.error.message}
        </p>
      )}
      <NotDone found={shown} />
      {!result && !running && (
        <p className="max-w-[72ch] py-3 text-ink-2">
          For a number of months, a growth and a share of space that stays free, this works out how
          much space each repository needs, and the smallest set of slots, proxies, links and rates
          with which every night still fits: month by month, each addition simulated. Prices and
          times of delivery are those of the plan, where they are stated.
        </p>
      )}
      {shown && result && isStale(shown, plan) && (
        <p role="status" className="py-1 text-hay-text">
          The plan has been changed since; this was worked out before that.
        </p>
      )}
      {result && (
        <section aria-label="What to buy">
          <h2 className="pt-2 text-lg font-semibold">
            {items.length
              ? `${count(items.length, "purchase")} for ${count(ahead.months, "month")}`
              : `Nothing has to be bought for ${count(ahead.months, "month")}`}
          </h2>
          <p className="pb-1 text-ink-2">
            {plan.name}, with growth {growth ? `of ${growth} % a year or more` : "as it is known"};{" "}
            {Math.round(reserveAsked * 100)} % of every repository stays free.
          </p>
          {items.length > 0 && (
            <>
              <table className="reflows w-full max-w-[1000px] border-collapse text-sm">
                <caption className="sr-only">What to buy, by the date of the order</caption>
                <thead>
                  <tr className="border-b border-rule-strong text-left text-ink-2">
                    <th scope="col" className="py-1 pr-3 font-medium">
                      Order by
                    </th>
                    <th scope="col" className="pr-3 font-medium">
                      Needed by
                    </th>
                    <th scope="col" className="pr-3 font-medium">
                      What
                    </th>
                    <th scope="col" className="pr-3 font-medium">
                      Without it
                    </th>
                    <th scope="col" className="text-right font-medium">
                      Price
                    </th>
                  </tr>
                </thead>
                <tbody>
                  {sorted.map((item) => (
                    <Line key={`${item.words} ${item.needed_by}`} item={item} />
                  ))}
                </tbody>
              </table>
              <p className="pt-1">
                {once.length > 0 && <b>{money(sum(once))} once. </b>}
                {monthly.length > 0 && <b>{money(sum(monthly))} a month. </b>}
                {unpriced > 0 && (
                  <span className="text-ink-2">
                    {count(unpriced, "purchase")} without a stated price.
                  </span>
                )}
              </p>
              <p className="pt-2 print:hidden">
                <Allowed>
                  <Button
                    onClick={() =>
                      void put(
                        // In the order in which it is needed: later amounts build on earlier ones.
                        items.flatMap((item) => item.operations) as Operation[],
                      )
                    }
                  >
                    Add all to a draft
                  </Button>
                </Allowed>
              </p>
            </>
          )}
          {(result.unmet?.length ?? 0) > 0 && (
            <UnmetNights unmet={result.unmet!} nameOf={(job) => jobs.get(job)?.name ?? job} />
          )}
        </section>
      )}
    </main>
  );
}

function Line({ item }: { item: PurchaseItem }) {
  const { plan } = useWorkbench();
  const late = Date.parse(item.order_by) < Date.parse(`${plan.first_night}T00:00:00Z`);
  return (
    <tr className="border-b border-rule align-top">
      <td data-label="Order by" className="py-1 pr-3 whitespace-nowrap">
        {dayWords(item.order_by, plan.time_zone)}
        {late && <span className="block text-xs text-barn">that is over: at once</span>}
      </td>
      <td data-label="Needed by" className="pr-3 whitespace-nowrap">
        {dayWords(item.needed_by, plan.time_zone)}
        {item.lead_days !== null && (
          <span className="block text-xs text-ink-2">
            {count(item.lead_days, "day")} of delivery
          </span>
        )}
      </td>
      <td data-label="What" className="pr-3">
        {item.words}
      </td>
      <td data-label="Without it" className="pr-3 text-ink-2">
        {item.why}
      </td>
      <td data-label="Price" className="text-right whitespace-nowrap">
        {item.price === null ? "–" : money(item.price)}
        {item.monthly && <span className="block text-xs text-ink-2">a month</span>}
      </td>
    </tr>
  );
}

/** Nights that nothing that can be bought makes fit, each window told once from its first month. */
function UnmetNights({
  unmet,
  nameOf,
}: {
  unmet: readonly Unmet[];
  nameOf: (job: string) => string;
}) {
  const groups = new Map<string, Unmet[]>();
  for (const each of unmet) {
    const key = `${each.window} ${each.reason?.job ?? ""} ${each.reason?.kind ?? ""}`;
    groups.set(key, [...(groups.get(key) ?? []), each]);
  }
  return (
    <section aria-label="What no purchase mends" className="pt-3">
      <h3 className="font-semibold">What no purchase mends</h3>
      <p className="text-ink-2">
        More of what can be bought does not help here; another start, another night or a split of
        the job may: see Balance.
      </p>
      <ul>
        {[...groups.values()].map((group) => (
          <li key={`${group[0]!.window} ${group[0]!.night}`}>
            From {monthWords(group[0]!.month)} on, {count(group.length, "month")}:{" "}
            {reasonWords(group[0] as unknown as WindowAhead, nameOf) ||
              `window ${group[0]!.window} does not hold`}
            .
          </li>
        ))}
      </ul>
    </section>
  );
}
