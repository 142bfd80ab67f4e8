import { useQuery } from "@tanstack/react-query";
import { Link } from "react-router";
import { learnedChangesQuery, learnedRatiosQuery } from "../api/runQueries";
import { Button } from "../ui/Button";
import { planOf, useAddress } from "../workbench/address";
import { Allowed } from "../workbench/Allowed";
import {
  changesOtherwise,
  inHundredths,
  type LearnedFact,
  percentage,
  ratio,
  useTakeLearned,
} from "../workbench/learned";

const SHOWN_LEARNED = 8;

interface Row {
  machine: string;
  stated: number;
  learned: number;
  error: number;
}

/** Machines whose change or compress ratio the ledger shows to be other than what is stated. */
export function LearnedOtherwise({ plan }: { plan: number }) {
  const changes = useQuery(learnedChangesQuery(plan));
  const ratios = useQuery(learnedRatiosQuery(plan));
  return (
    <>
      <Otherwise
        plan={plan}
        fact="daily_change"
        what="daily change"
        rows={(changes.data?.machines ?? []).filter(changesOtherwise)}
        words={(row) =>
          `${percentage(row.learned)} ± ${percentage(row.error)} change a day, stated ${percentage(row.stated)}`
        }
      />
      <Otherwise
        plan={plan}
        fact="compress_ratio"
        what="compress ratio"
        rows={(ratios.data?.machines ?? []).filter((row) => row.otherwise)}
        words={(row) =>
          `compresses ${ratio(row.learned)} ± ${inHundredths(row.error)}, stated ${ratio(row.stated)}`
        }
      />
    </>
  );
}

function Otherwise({
  plan,
  fact,
  what,
  rows,
  words,
}: {
  plan: number;
  fact: LearnedFact;
  what: string;
  rows: Row[];
  words: (row: Row) => string;
}) {
  const { search } = useAddress();
  const take = useTakeLearned(plan, fact, (row: Row) => row.learned);
  if (!rows.length) return null;
  const distance = (row: Row) => Math.abs(Math.log(row.learned / row.stated));
  const byDistance = [...rows].sort((a, b) => distance(b) - distance(a));
  return (
    <section aria-label={`Learned ${what}`} className="mt-3 border-t border-rule pt-2">
      <div className="flex items-center gap-1">
        <h3 className="flex-1 font-semibold">
          Learned from the ledger: {what}{" "}
          <span className="font-normal text-ink-2">{rows.length}</span>
        </h3>
        <Allowed>
          <Button
            small
            aria-label={`Take all ${rows.length} of ${what}`}
            disabled={take.isPending}
            onClick={() => take.mutate(rows)}
          >
            Take all {rows.length}
          </Button>
        </Allowed>
      </div>
      {take.error && <p role="alert">{take.error.message}</p>}
      <ul>
        {byDistance.slice(0, SHOWN_LEARNED).map((row) => (
          <li key={row.machine} className="flex items-baseline gap-1 border-t border-rule py-1">
            <span className="flex-1">
              <strong>{row.machine}</strong>: {words(row)}
            </span>
            <Allowed>
              <Button
                small
                look="plain"
                aria-label={`Take the ${what} of ${row.machine}`}
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
