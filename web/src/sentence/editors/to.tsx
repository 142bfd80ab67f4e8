import { count } from "../../ui/words";
import { Pick } from "../../ui/controls";
import { type Choices as Offered } from "../../api/jobQueries";
import { type Props } from "./props";

export function ToEditor({ edit, look, offered }: Props & { offered: Offered }) {
  return (
    <>
      <Pick
        label="Repository"
        value={edit.value.repository}
        options={offered.repositories}
        onChange={(v) => edit.set({ repository: v })}
      />
      {edit.wrong("repository") && (
        <p role="alert" className="text-barn">
          {edit.wrong("repository")}
        </p>
      )}
      <p className="text-ink-2">
        {look?.points_before
          ? `It goes on from ${count(look.points_before, "restore point")} that exist; in another repository it begins with a full.`
          : "No points of it exist yet: each machine begins with a full."}
      </p>
      <p className="mt-2 text-ink-2">
        Some machines elsewhere: split the job, and give a part another repository.
      </p>
    </>
  );
}
