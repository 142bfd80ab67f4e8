import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import {
  giveOrder,
  type HelpTonight,
  type Order,
  outlookQuery,
  type RunOutlook,
  runsKey,
} from "../api/runQueries";
import { clock } from "../time/time";
import { Button } from "../ui/Button";
import { useMay } from "../workbench/rights";

/** How the runs that are not over are likely to end, by the key of their bars. */
export function useOutlook(plan: number, night: boolean) {
  const found = useQuery({ ...outlookQuery(plan), enabled: night }).data;
  const byRun = new Map<string, RunOutlook>(
    (found?.runs ?? []).map((run) => [`${run.job} ${run.occurrence}`, run]),
  );
  return { outlook: found?.draws ? found : undefined, looking: found?.looking ?? true, byRun };
}

/** How sure the rest of the night is, what it has shown so far, and what would help. */
export function OutlookOfTonight(props: {
  plan: number;
  zone: string;
  orders: readonly Order[];
  ordersPossible: boolean;
}) {
  const { plan, zone, orders, ordersPossible } = props;
  const { outlook, looking } = useOutlook(plan, true);
  if (!outlook) return null;
  return (
    <section aria-label="The rest of the night" className="pt-2">
      <p className="max-w-[110ch]">
        {outlook.words}
        {!outlook.current && outlook.at && (
          <span className="text-ink-2"> As of {clock(outlook.at, zone)}.</span>
        )}
      </p>
      {outlook.shown.length > 0 && (
        <details className="pt-1">
          <summary className="cursor-pointer text-ink-2">
            What the night has shown so far ({outlook.shown.length})
          </summary>
          <ul className="pl-4">
            {outlook.shown.map((each) => (
              <li key={each.what}>
                {each.words}{" "}
                <span className="text-ink-2">
                  ({each.low.toFixed(2)} to {each.high.toFixed(2)})
                </span>
              </li>
            ))}
          </ul>
        </details>
      )}
      {(outlook.help.length > 0 || outlook.fits < 1) && (
        <Helps
          plan={plan}
          helps={outlook.help}
          of={outlook.looking && outlook.help_at ? clock(outlook.help_at, zone) : null}
          looking={looking}
          orders={orders}
          possible={ordersPossible}
        />
      )}
    </section>
  );
}

/** Orders of tonight that would help, the best first. */
function Helps(props: {
  plan: number;
  helps: readonly HelpTonight[];
  /** When they were found, where the night has gone on since. */
  of: string | null;
  looking: boolean;
  orders: readonly Order[];
  possible: boolean;
}) {
  const { plan, helps, of, looking, orders, possible } = props;
  const client = useQueryClient();
  const mayPlan = useMay("plan");
  const give = useMutation({
    mutationFn: (help: HelpTonight) => giveOrder(plan, help.order),
    onSettled: () => client.invalidateQueries({ queryKey: runsKey(plan) }),
  });
  const given = new Set(
    orders.filter((o) => o.state === "open" || o.state === "taken").map((o) => o.words),
  );
  return (
    <section aria-label="What would help" className="pt-3">
      <h2 className="text-lg font-semibold">
        What would help tonight only
        {of && (
          <span className="ml-2 text-base font-normal text-ink-2">
            as of {of}; it is simulated anew
          </span>
        )}
      </h2>
      {helps.length === 0 && (
        <p className="text-ink-2">
          {looking
            ? "Simulating what would help …"
            : "Nothing that was tried saves more than it costs."}
        </p>
      )}
      <ol>
        {helps.map((help) => (
          <li key={help.words} className="flex gap-3 border-t border-rule py-1">
            <div className="min-w-0 flex-1">
              <span className="font-medium">{help.words}</span>
              <span className="block">{help.brings.join("; ")}.</span>
              {help.costs.length > 0 && (
                <span className="block text-ink-2">It costs: {help.costs.join("; ")}.</span>
              )}
            </div>
            {mayPlan && possible && (
              <Button
                small
                className="shrink-0 self-start"
                aria-label={`Order: ${help.words}`}
                disabled={give.isPending || given.has(help.words)}
                onClick={() => give.mutate(help)}
              >
                {given.has(help.words) ? "Ordered" : "Order"}
              </Button>
            )}
          </li>
        ))}
      </ol>
      {give.error && <p role="alert">{give.error.message}</p>}
    </section>
  );
}
