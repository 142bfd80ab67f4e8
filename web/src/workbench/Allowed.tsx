import type { ReactNode } from "react";
import type { Role } from "../api/settingsQueries";
import { useMay } from "./rights";

/** What is offered only to those who have a right; the server decides all the same. */
export function Allowed({ right = "plan", children }: { right?: Role; children: ReactNode }) {
  return useMay(right) ? children : null;
}
