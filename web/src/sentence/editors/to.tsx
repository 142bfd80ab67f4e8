import { Plus, X } from "lucide-react";
import { useState } from "react";
import { Button } from "../../ui/Button";
import { bytes, count } from "../../ui/words";
import { Group, Pick } from "../../ui/controls";
import { type Choices as Offered } from "../../api/jobQueries";
import { type Destination, type PointsElsewhere } from "../value";
import { Rules } from "./rules";
import { type Props } from "./props";

const samePlace = (one: PointsElsewhere, other: PointsElsewhere) =>
  one.job === other.job && one.repository === other.repository;

export function ToEditor({ edit, look, offered }: Props & { offered: Offered }) {
  const { value, goesOnFrom, goOnFrom } = edit;
  const [added, setAdded] = useState<number | null>(null);
  const destinations = value.destinations;
  const taken = [
    value.repository,
    ...value.copies.map((copy) => copy.repository),
    ...destinations.map((each) => each.repository),
  ];
  const free = offered.repositories.filter((repository) => !taken.includes(repository));
  const goTo = (next: Destination[]) => {
    edit.set({ destinations: next });
    // They were to be carried to where the machines went before.
    goOnFrom([]);
  };
  const change = (i: number, next: Destination) =>
    goTo(destinations.map((each, at) => (at === i ? next : each)).filter((d) => d.rules.length));
  // What was chosen is no longer elsewhere in the answer, which has it taken already.
  const offers = (look?.points_elsewhere ?? []).filter(
    (each) =>
      (each.carried || each.job !== value.id) &&
      !goesOnFrom.some((other) => samePlace(each, other)),
  );
  const points = [...goesOnFrom, ...offers];
  const nameOf = (job: string) =>
    (offered.jobs as { id: string; name: string }[]).find((each) => each.id === job)?.name ?? job;
  const words = ({ job, repository, ...each }: PointsElsewhere) => {
    const points = count(each.points, "point");
    const whose = job === value.id ? `Its ${points}` : `${points} of ${nameOf(job)}`;
    const where = each.carried ? ` in ${repository}, once carried here` : "";
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
      {destinations.map((destination, i) => (
        <Group key={i} title={`Machines that go to ${destination.repository}`}>
          <div className="flex items-center">
            <Pick
              label="To"
              value={destination.repository}
              options={[destination.repository, ...free]}
              onChange={(repository) => change(i, { ...destination, repository })}
            />
            <span className="flex-1" />
            <button
              type="button"
              aria-label={`No machines to ${destination.repository}`}
              onClick={() => goTo(destinations.filter((_, at) => at !== i))}
              className="p-1 hover:bg-closed"
            >
              <X size={14} aria-hidden />
            </button>
          </div>
          <Rules
            rules={destination.rules}
            offered={offered}
            begun={i === added}
            onChange={(rules) => change(i, { ...destination, rules })}
          />
        </Group>
      ))}
      {edit.wrong("destinations") && (
        <p role="alert" className="text-barn">
          {edit.wrong("destinations")}
        </p>
      )}
      <Button
        small
        disabled={!free.length}
        onClick={() => {
          // A machine of the job, which typing replaces.
          const value = look?.selected[0]?.machine ?? "";
          setAdded(destinations.length);
          const rules = [[{ field: "name", op: "is", value }]];
          goTo([...destinations, { repository: free[0]!, rules }]);
        }}
      >
        <Plus size={12} aria-hidden /> Some machines elsewhere
      </Button>
      {destinations.length > 1 && (
        <p className="text-ink-2">A machine goes to the first of them that names it.</p>
      )}
    </>
  );
}
