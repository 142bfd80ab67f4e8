import { useQuery } from "@tanstack/react-query";
import { Link } from "react-router";
import { type LearnedChange, learnedChangesQuery } from "../api/runQueries";
import { Button } from "../ui/Button";
import { planOf, useAddress } from "../workbench/address";
import { Allowed } from "../workbench/Allowed";
import { changesOtherwise, percentage, useTakeLearned } from "../workbench/learned";

const SHOWN_LEARNED = 8;

/** Machines whose incrementals bring more or less than is stated of them. */
export function LearnedOtherwise({ plan }: { plan: number }) {
  const { search } = useAddress();
  const found = useQuery(learnedChangesQuery(plan));
  const rows = (found.data?.machines ?? []).filter(changesOtherwise);
  const take = useTakeLearned(plan, "daily_change", (row: LearnedChange) => row.learned);
  if (!rows.length) return null;
  const byDistance = [...rows].sort(
    (a, b) => Math.abs(Math.log(b.learned / b.stated)) - Math.abs(Math.log(a.learned / a.stated)),
  );
  return (
    <section aria-label="Learned" className="mt-3 border-t border-rule pt-2">
      <div className="flex items-center gap-1">
        <h3 className="flex-1 font-semibold">
          Learned from the ledger <span className="font-normal text-ink-2">{rows.length}</span>
        </h3>
        <Allowed>
          <Button small disabled={take.isPending} onClick={() => take.mutate(rows)}>
            Take all {rows.length}
          </Button>
        </Allowed>
      </div>
      {take.error && <p role="alert">{take.error.message}</p>}
      <ul>
        {byDistance.slice(0, SHOWN_LEARNED).map((row) => (
          <li key={row.machine} className="flex items-baseline gap-1 border-t border-rule py-1">
            <span className="flex-1">
              <strong>{row.machine}</strong>: {percentage(row.learned)} ± {percentage(row.error)}{" "}
              change a day, stated {percentage(row.stated)}
            </span>
            <Allowed>
              <Button
                small
                look="plain"
                aria-label={`Take the daily change of ${row.machine}`}
                disabled={take.isPending}
                onClick={() => take.mutate([row])}
              >
                Take
              </Button>
            </Allowed>
          </li>
        ))}
      </ul>
      <Link
        className="underline underline-offset-2"
        to={{ pathname: "/runs", search: `${planOf(search)}&part=nights` }}
      >
        {rows.length > SHOWN_LEARNED ? `All ${rows.length}` : "What it rests on"}
      </Link>
    </section>
  );
}
