import { TableFiles } from "../ui/TableFiles";
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import {
  type Order,
  type RunBar,
  runsKey,
  confirmOrder,
  takeBackOrder,
  type Tonight as TonightBody,
  tonightQuery,
} from "../api/runQueries";
import { sessionQuery } from "../api/planQueries";
import { useMay } from "../workbench/rights";
import { clock, dateWords, dayClock } from "../time/time";
import { Button } from "../ui/Button";
import { Pending } from "../ui/Pending";
import { Verdict } from "../ui/Verdict";
import { ClockDesk, useRunnerClock } from "./ClockDesk";
import { keyOf, NightChart } from "./NightChart";
import { NotDone } from "./NotDone";
import { OutlookOfTonight, useOutlook } from "./Outlook";
import { LedgerRunSheet } from "./RunSheet";
import { useNews } from "./useNews";

/** The night under way: what ran, what runs, how it goes on, and what can be ordered. */
export function Tonight(props: {
  plan: number;
  chosen: string | null;
  onChoose: (key: string | null) => void;
}) {
  const { plan } = props;
  useNews(plan);
  const found = useQuery(tonightQuery(plan));
  if (found.error || !found.data) return <Pending error={found.error} text="Reading the night …" />;
  return <Night {...props} night={found.data} />;
}

function Night(props: {
  plan: number;
  night: TonightBody;
  chosen: string | null;
  onChoose: (key: string | null) => void;
}) {
  const { plan, night, chosen, onChoose } = props;
  const zone = night.summary.zone;
  const now = useRunnerClock(night.clock, night.runner);
  const run: RunBar | undefined = night.runs.find((each) => keyOf(each) === chosen);
  const mayPlan = useMay("plan");
  const { byRun } = useOutlook(plan, night.runner !== null);
  const failed = night.troubles.filter((t) => !t.made_good);
  return (
    <div className="flex min-h-0 flex-1 narrow:flex-col">
      <section
        aria-label="Tonight"
        tabIndex={0}
        className="min-w-0 flex-1 overflow-y-auto px-4 pb-4"
      >
        <div className="flex flex-wrap items-baseline gap-x-4 gap-y-1 py-2">
          <h1 className="text-xl font-semibold">
            The night of {dateWords(night.summary.date).long} {dateWords(night.summary.date).day}{" "}
            {dateWords(night.summary.date).month}
          </h1>
          <span>
            predicted: <Verdict verdict={night.summary.predicted_verdict} />
          </span>
          <span className="flex-1" />
          {mayPlan && night.runner?.kind === "stand-in" && (
            <ClockDesk plan={plan} zone={zone} now={now} runner={night.runner} />
          )}
        </div>
        <p className="max-w-[110ch] pb-2 text-lg" aria-live="polite">
          {night.words}
        </p>
        {!night.runner && (
          <p className="pb-2">
            No runner carries this plan out, so nothing is reported. Add one under Runner.
          </p>
        )}
        {night.silent_since && (
          <p role="alert" className="pb-2 text-barn">
            The runner has been silent since {dayClock(night.silent_since, zone)} (by the clock of
            this computer). What is shown is what it reported by then.
          </p>
        )}
        {night.runs.length > 0 && (
          <NightChart
            runs={night.runs}
            start={night.summary.start}
            end={night.summary.end}
            zone={zone}
            now={now}
            chosen={chosen}
            onChoose={(each) => onChoose(keyOf(each) === chosen ? null : keyOf(each))}
            outlook={byRun}
          />
        )}
        <div className="flex items-baseline justify-between gap-4">
          <Legend goesOn />
          <TableFiles of={`plans/${plan}/tables/tonight`} what="Runs of tonight" />
        </div>
        {night.runner && (
          <OutlookOfTonight
            plan={plan}
            zone={zone}
            orders={night.orders}
            ordersPossible={night.runner !== null}
          />
        )}
        <NotDone
          title="Not done so far"
          troubles={failed}
          runs={night.runs}
          zone={zone}
          file={<TableFiles of={`plans/${plan}/tables/not-done`} what="Not done" />}
        />
        {night.orders.length > 0 && <Orders plan={plan} orders={night.orders} zone={zone} />}
      </section>
      {run && (
        <LedgerRunSheet
          key={keyOf(run)}
          plan={plan}
          zone={zone}
          run={run}
          ordersPossible={night.runner !== null}
          onClose={() => onChoose(null)}
        />
      )}
    </div>
  );
}

export function Legend({ goesOn = false }: { goesOn?: boolean }) {
  return (
    <p className="flex flex-wrap gap-4 pt-2 text-sm text-ink-2" aria-label="What the bars mean">
      <span>
        <span className="mr-1 inline-block h-2.5 w-5 border border-ink align-middle" /> predicted
      </span>
      <span>
        <span className="mr-1 inline-block h-2.5 w-5 bg-slate align-middle" /> ran, full
      </span>
      <span>
        <span className="mr-1 inline-block h-1.5 w-5 bg-sage align-middle" /> ran, incremental
      </span>
      <span>
        <span className="late-hatch mr-1 inline-block h-2.5 w-5 align-middle" /> past its window
      </span>
      {goesOn && (
        <>
          <span>
            <span className="mr-1 inline-block h-2.5 w-5 border border-dashed border-ink-2 align-middle" />{" "}
            as it goes on
          </span>
          <span>
            <span className="soft-edge mr-1 inline-block h-2.5 w-5 align-middle" /> ends in here in
            9 of 10
          </span>
        </>
      )}
    </p>
  );
}

/** The state of an order that waits for a second person. */
const WAITS = "to be confirmed";

function Orders({ plan, orders, zone }: { plan: number; orders: Order[]; zone: string }) {
  const client = useQueryClient();
  const me = useQuery(sessionQuery).data?.name;
  const mayPlan = useMay("plan");
  const onSettled = () => client.invalidateQueries({ queryKey: runsKey(plan) });
  const back = useMutation({ mutationFn: (id: number) => takeBackOrder(plan, id), onSettled });
  const confirm = useMutation({ mutationFn: (id: number) => confirmOrder(plan, id), onSettled });
  const error = back.error ?? confirm.error;
  return (
    <section aria-label="Orders of tonight" className="pt-3">
      <h2 className="text-lg font-semibold">Orders</h2>
      <ul>
        {orders.map((order) => (
          <li key={order.id} className="border-t border-rule py-0.5">
            <span className="font-medium">{order.words}</span>{" "}
            <span className="text-ink-2">
              {clock(order.at, zone)} by {order.actor}
              {order.seconded_by && ` and ${order.seconded_by}`}: {order.state}
              {order.reason && `, ${order.reason}`}
              {order.state === WAITS && order.actor === me && " by somebody else"}
            </span>
            {mayPlan && order.state === WAITS && order.actor !== me && (
              <Button
                small
                className="ml-2"
                onClick={() => confirm.mutate(order.id)}
                disabled={confirm.isPending}
              >
                Confirm
              </Button>
            )}
            {mayPlan && (order.state === "open" || order.state === WAITS) && (
              <Button
                small
                look="plain"
                className="ml-2"
                onClick={() => back.mutate(order.id)}
                disabled={back.isPending}
              >
                Take back
              </Button>
            )}
          </li>
        ))}
      </ul>
      {error && <p role="alert">{error.message}</p>}
    </section>
  );
}
