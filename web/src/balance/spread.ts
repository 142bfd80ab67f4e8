import { useQuery } from "@tanstack/react-query";
import { learnedSpreadQuery } from "../api/runQueries";
import { count } from "../ui/words";

/** The spreads that are taken where the ledger is silent. */
const USUAL_CHANGE = 0.35;
const USUAL_RATE = 0.08;

/** How much things vary from week to week, by the ledger where it knows, and where that is from. */
export function useSpread(plan: number) {
  const learned = useQuery(learnedSpreadQuery(plan));
  const told = [learned.data?.change && "change", learned.data?.rate && "rates"].filter(Boolean);
  return {
    isPending: learned.isPending,
    change: learned.data?.change ?? USUAL_CHANGE,
    rate: learned.data?.rate ?? USUAL_RATE,
    ofEach: told.length > 0,
    source:
      told.length > 0
        ? `The spread of ${told.join(" and ")} comes from ${count(learned.data?.nights ?? 0, "night")} of the ledger`
        : "Usual spreads, as there is no record of real runs yet",
  };
}
