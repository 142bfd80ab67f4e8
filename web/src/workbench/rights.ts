import { useQuery } from "@tanstack/react-query";
import { sessionQuery } from "../api/planQueries";
import type { Draft } from "../api/client";
import type { Role } from "../api/settingsQueries";

/** What people may do; each role may do what those before it may. */
export const ROLES: readonly { value: Role; label: string }[] = [
  { value: "read", label: "look" },
  { value: "plan", label: "plan" },
  { value: "administer", label: "administer" },
];

export const roleWords = (role: string) => ROLES.find((each) => each.value === role)?.label ?? role;

/** Whose own draft this is, where that is somebody else's that they have not shared. */
export function useOwnerInTheWay(draft: Draft | null): string | null {
  const me = useQuery(sessionQuery).data?.name;
  return draft?.owner && !draft.shared && me && draft.owner !== me ? draft.owner : null;
}

/** Whether who is signed in has a right. The server decides; this only spares a refusal. */
export function useMay(right: Role): boolean {
  const role = useQuery(sessionQuery).data?.role ?? "read";
  const rank = (name: string) => ROLES.findIndex((each) => each.value === name);
  return rank(role) >= rank(right);
}
