import { useQuery } from "@tanstack/react-query";
import { machinesNamedQuery } from "../api/estateQueries";
import { useWorkbench } from "./store";

/** Names of machines that what was typed may mean; undefined until they are known. */
export function useMachineNames(typed: string): readonly string[] | undefined {
  const { plan, draft } = useWorkbench();
  const known = useQuery({
    ...machinesNamedQuery(plan, draft, typed.trim()),
    enabled: typed.trim().length > 1,
  });
  return known.data?.rows.map((each) => each.name);
}
