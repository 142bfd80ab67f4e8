import { useMemo } from "react";
import type { Ahead } from "../api/runwayQueries";
import { useAddress } from "../workbench/address";

export const MONTHS = [6, 12, 18, 24, 36] as const;
/** Feared growths that are offered, in per cent a year. */
export const FEARS = [10, 20, 30, 50, 100] as const;

const whole = (text: string | null, otherwise: number) => {
  const value = Number(text);
  return text !== null && Number.isFinite(value) && value > 0 ? value : otherwise;
};

/** How the months ahead are meant; it stands in the address, so that it can be sent on. */
export function useMeant() {
  const { search, set } = useAddress();
  const months = Math.min(36, Math.max(1, Math.round(whole(search.get("months"), 24))));
  const fear = search.get("fear") === "none" ? null : whole(search.get("fear"), 30);
  const grows = search.get("grows") !== "no";
  const ahead = useMemo<Ahead>(
    () => ({ months, feared_growth: null, provisioned_grows: grows }),
    [months, grows],
  );
  return {
    ahead,
    /** The growth of the second curve, in per cent; null: none is drawn. */
    fear,
    setMonths: (value: number) => set({ months: value === 24 ? null : String(value) }),
    setFear: (value: number | null) =>
      set({ fear: value === 30 ? null : value === null ? "none" : String(value) }),
    /** The growth of a question that simulates nights, in per cent a year; null: as it is known. */
    growth: search.get("growth") === null ? null : whole(search.get("growth"), 30),
    setGrowth: (value: number | null) => set({ growth: value === null ? null : String(value) }),
    setGrows: (value: boolean) => set({ grows: value ? null : "no" }),
  };
}
