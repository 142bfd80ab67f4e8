import type { Bought, PurchaseBesideMoves } from "../api/balanceQueries";
import type { Operation } from "../api/client";
import { Button } from "../ui/Button";
import { count, money } from "../ui/words";
import { Allowed } from "../workbench/Allowed";
import { useWorkbench } from "../workbench/store";

/** What would have to be bought for every night to fit: for the plan as it is, and beside moves. */
export function ToBuy({
  purchase,
  scenario,
}: {
  purchase: PurchaseBesideMoves;
  /** Found as if something had happened: there is nothing to put into a draft. */
  scenario: boolean;
}) {
  const { as_it_is: asItIs, with_moves: withMoves } = purchase;
  if (asItIs.fits && !asItIs.items.length) return null;
  return (
    <section aria-label="What to buy" className="mt-4">
      <h2 className="text-lg font-semibold">What to buy</h2>
      <ul>
        <Line lead="As it is" bought={asItIs} scenario={scenario} />
        {withMoves.moves > 0 && (
          <Line
            lead={`With ${count(withMoves.moves, "move")}`}
            bought={withMoves}
            scenario={scenario}
          />
        )}
      </ul>
    </section>
  );
}

function Line({ lead, bought, scenario }: { lead: string; bought: Bought; scenario: boolean }) {
  const { put, busy } = useWorkbench();
  const { items, moves } = bought;
  const take = () =>
    void put([...items.flatMap((item) => item.operations), ...bought.operations] as Operation[]);
  return (
    <li className="border-t border-rule py-1">
      {lead}: {boughtWords(bought)}
      {items.some((item) => item.price !== null) && (
        <span className="text-ink-2"> {priceWords(items)}</span>
      )}
      {items.length > 0 && bought.fits && !scenario && (
        <span className="block">
          <Allowed>
            <Button small disabled={busy === "saving"} onClick={take}>
              {moves ? `Add it and ${count(moves, "move")} to the draft` : "Add it to the draft"}
            </Button>
          </Allowed>
        </span>
      )}
    </li>
  );
}

/** What has to be bought, or that nothing has to or helps. */
export function boughtWords({ items, fits }: Pick<Bought, "items" | "fits">): string {
  const things = items.map((item) => item.words).join("; ");
  if (fits) return items.length ? `${things}.` : "nothing, every night fits.";
  if (!items.length) return "nothing that can be bought makes every night fit.";
  return `${things} would help, but not every night would fit.`;
}

/** What it costs, as far as prices are stated. */
export function priceWords(items: Bought["items"]): string {
  const sum = (monthly: boolean) =>
    items.reduce((all, item) => all + (item.monthly === monthly ? (item.price ?? 0) : 0), 0);
  const said = [
    sum(false) > 0 && `${money(sum(false))} once`,
    sum(true) > 0 && `${money(sum(true))} a month`,
  ].filter(Boolean);
  const open = items.some((item) => item.price === null) ? ", the rest without a price" : "";
  return said.length ? `${said.join(" and ")}${open}.` : "";
}
