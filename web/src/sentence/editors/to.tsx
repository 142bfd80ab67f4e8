import { bytes, count } from "../../ui/words";
import { Pick } from "../../ui/controls";
import { type Choices as Offered } from "../../api/jobQueries";
import { type PointsElsewhere } from "../value";
import { type Props } from "./props";

const samePlace = (one: PointsElsewhere, other: PointsElsewhere) =>
  one.job === other.job && one.repository === other.repository;

export function ToEditor({ edit, look, offered }: Props & { offered: Offered }) {
  const { value, goesOnFrom, goOnFrom } = edit;
  // What was chosen is no longer elsewhere in the answer, which has it taken already.
  const offers = (look?.points_elsewhere ?? []).filter(
    (each) =>
      !(each.job === value.id && each.repository === value.repository) &&
      !goesOnFrom.some((other) => samePlace(each, other)),
  );
  const points = [...goesOnFrom, ...offers];
  const nameOf = (job: string) =>
    (offered.jobs as { id: string; name: string }[]).find((each) => each.id === job)?.name ?? job;
  const words = ({ job, repository, ...each }: PointsElsewhere) => {
    const points = count(each.points, "point");
    const whose = job === value.id ? `Its ${points}` : `${points} of ${nameOf(job)}`;
    const where = repository === value.repository ? "" : ` in ${repository}, once carried here`;
    return `${whose}${where}: no second full of ${count(each.machines, "machine")}, ${bytes(each.full_bytes)} less`;
  };
  return (
    <>
      <Pick
        label="Repository"
        value={value.repository}
        options={offered.repositories}
        onChange={(v) => {
          edit.set({ repository: v });
          // They were to be carried to the repository of before.
          goOnFrom([]);
        }}
      />
      {edit.wrong("repository") && (
        <p role="alert" className="text-barn">
          {edit.wrong("repository")}
        </p>
      )}
      <p className="text-ink-2">
        {look?.points_before
          ? `It goes on from ${count(look.points_before, "restore point")} there.`
          : "It has no points there yet: each machine begins with a full."}
      </p>
      {points.length > 0 && (
        <fieldset className="mt-2">
          <legend className="font-semibold">Go on from points that exist</legend>
          {points.map((each) => (
            <label key={`${each.job} ${each.repository}`} className="flex items-start gap-2">
              <input
                type="checkbox"
                className="mt-1"
                checked={goesOnFrom.includes(each)}
                onChange={(event) =>
                  goOnFrom(
                    event.target.checked
                      ? [...goesOnFrom, each]
                      : goesOnFrom.filter((other) => other !== each),
                  )
                }
              />
              {words(each)}
            </label>
          ))}
          <p className="text-ink-2">
            This only plans with them: see that they are there before the first run.
          </p>
        </fieldset>
      )}
      <p className="mt-2 text-ink-2">
        Some machines elsewhere: split the job, and give a part another repository.
      </p>
    </>
  );
}
