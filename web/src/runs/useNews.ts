import { useQueryClient } from "@tanstack/react-query";
import { useEffect } from "react";
import { runsKey } from "../api/runQueries";

/** Read the runs of a plan again whenever there is news of them. */
export function useNews(plan: number) {
  const client = useQueryClient();
  useEffect(() => {
    const source = new EventSource(`/api/v1/plans/${plan}/news`);
    source.onmessage = () => void client.invalidateQueries({ queryKey: runsKey(plan) });
    return () => source.close();
  }, [plan, client]);
}
