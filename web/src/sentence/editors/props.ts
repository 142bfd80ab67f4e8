import { type Look } from "../../api/jobQueries";
import type { JobEdit } from "../useJobEdit";

export interface Props {
  edit: JobEdit;
  look: Look | undefined;
}
