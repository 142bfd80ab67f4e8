import { useEffect } from "react";
import type { Operation } from "../api/client";
import { useWorkbench } from "./store";

/** Discards what is being considered when whoever considers it is left. */
export function useDiscardOnLeave() {
  const { consider } = useWorkbench();
  useEffect(() => () => consider([]), [consider]);
}

/** Considers operations for as long as this is shown. */
export function useConsiderWhileShown(operations: readonly Operation[]) {
  const { consider } = useWorkbench();
  const key = JSON.stringify(operations);
  useEffect(() => consider(JSON.parse(key) as Operation[]), [consider, key]);
  useDiscardOnLeave();
}
