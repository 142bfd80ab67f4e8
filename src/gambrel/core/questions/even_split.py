"""How a job would split into even groups, by what its machines really take."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace

from gambrel.core.edits.item_edits import free_id
from gambrel.core.edits.splitting import Group, MachineTime, even_groups, group_name
from gambrel.core.model.selection import selected_machines
from gambrel.core.plan.objects import Job, Plan
from gambrel.core.questions.isolated_job import alone
from gambrel.core.questions.ways_to_keep import kept_as
from gambrel.core.simulation.simulate import simulate
from gambrel.core.units import DAY


def machine_times(plan: Plan, job: Job, from_: float) -> list[MachineTime]:
    """How long a full and an incremental of each machine take, the job alone on its paths.

    The longest of each kind within a week counts; a job that has no fulls or nothing else is
    asked what weekly fulls would take.
    """
    found: dict[str, dict[str, float]] = {}
    for way in (job, kept_as(job, "weekly full")):
        forecast = simulate(alone(plan, way), from_, from_ + 8 * DAY)
        for run in forecast.runs:
            for machine in run.machines:
                if machine.start is None or machine.kind is None:
                    continue
                kind = "full" if machine.kind == "full" and not machine.synthetic else "rest"
                length = machine.ended - machine.start
                times = found.setdefault(machine.machine, {})
                times[kind] = max(times.get(kind, 0.0), length)
        if all({"full", "rest"} <= times.keys() for times in found.values()):
            break
    return [
        MachineTime(m.id, times.get("full", 0.0), times.get("rest", 0.0))
        for m in selected_machines(plan, job)
        for times in (found.get(m.id, {}),)
    ]


@dataclass(frozen=True, slots=True)
class JobPart:
    """A job that one group of machines would become."""

    id: str
    name: str
    group: Group


@dataclass(frozen=True, slots=True)
class EvenSplit:
    """Even groups of a job, the heaviest first.

    Attributes:
        by_count: the seconds of fulls that groups dealt out by count would have, to compare with.
    """

    parts: Sequence[JobPart]
    by_count: Sequence[float]


def even_split(plan: Plan, job: Job, number: int, from_: float) -> EvenSplit:
    """A job in even groups by what fulls and incrementals of its machines take.

    Raises:
        ValueError: where it has fewer machines than groups.
    """
    times = machine_times(plan, job, from_)
    groups = sorted(even_groups(times, number), key=lambda group: -group.full_s)
    parts: list[JobPart] = []
    scratch = plan
    for i, group in enumerate(groups):
        name = job.name if i == 0 else group_name(job, i)
        ident = job.id if i == 0 else free_id(scratch.job_by_id, name)
        scratch = replace(scratch, jobs=(*scratch.jobs, replace(job, id=ident)))
        parts.append(JobPart(ident, name, group))
    return EvenSplit(parts, [sum(t.full_s for t in times[i::number]) for i in range(number)])
