"""One job made into several: groups of even work; chains of points go along with their machines."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace
from typing import Any, ClassVar

from gambrel.core.edits.full_moves import is_weekly_full, with_full_moved
from gambrel.core.edits.item_edits import OperationError, editable_job
from gambrel.core.edits.point_owners import Handover, chains_of, with_handovers
from gambrel.core.model.selection import selected_machines
from gambrel.core.plan.objects import Job, Plan, Selection
from gambrel.core.words import count

MOST_GROUPS = 12
"""Groups into which a job may be split at once."""


def group_name(job: Job, position: int) -> str:
    """The name of a new job that a split makes: the first group, 0, keeps that of the job."""
    return f"{job.name}, group {position + 1}"


# --- even groups ------------------------------------------------------------------------------


@dataclass(frozen=True, slots=True)
class MachineTime:
    """What a machine takes: seconds of a full and of an incremental, from start to end."""

    machine: str
    full_s: float
    incremental_s: float


@dataclass(frozen=True, slots=True)
class Group:
    """Machines that go together, in the order of the job, and what they take one by one."""

    machines: tuple[str, ...]
    full_s: float
    incremental_s: float


def even_groups(times: Sequence[MachineTime], number: int) -> list[Group]:
    """Groups whose fulls and incrementals take as alike as a plain rule can make them.

    Machines are dealt out by falling share of the whole work, each to the group in which the
    larger of its two shares stays smallest (longest processing time first, in two dimensions;
    Graham 1969 for one). Each time counts as its share of the sum over all machines.

    Args:
        times: one entry for each machine, in the order of the job.
        number: of groups, at most as many as there are machines.

    Raises:
        ValueError: where `number` is not between 1 and the number of machines.
    """
    if not 1 <= number <= len(times):
        raise ValueError(f"{number} groups of {count(len(times), 'machine')} cannot be made")
    fulls = sum(t.full_s for t in times) or 1.0
    increments = sum(t.incremental_s for t in times) or 1.0
    load = [[0.0, 0.0] for _ in range(number)]
    chosen: list[list[int]] = [[] for _ in range(number)]
    shares = [(t.full_s / fulls, t.incremental_s / increments) for t in times]
    for i in sorted(range(len(times)), key=lambda i: (-max(shares[i]), i)):
        full, increment = shares[i]
        best = min(
            range(number),
            key=lambda g: (
                max(load[g][0] + full, load[g][1] + increment),
                load[g][0] + load[g][1],
                len(chosen[g]),
                g,
            ),
        )
        load[best][0] += full
        load[best][1] += increment
        chosen[best].append(i)
    return [
        Group(
            tuple(times[i].machine for i in sorted(group)),
            sum(times[i].full_s for i in group),
            sum(times[i].incremental_s for i in group),
        )
        for group in chosen
    ]


# --- the operation ----------------------------------------------------------------------------


def _along(plan: Plan, giver: str, taker_of: Mapping[str, str]) -> list[Handover]:
    """The points that go along with machines from a job to others, where they lie."""
    return [
        Handover(giver, repository, taker_of[machine], repository, (machine,))
        for repository, machines in chains_of(plan, giver, taker_of).items()
        for machine in machines
    ]


def _with_fulls_moved(job: Job, days: Any, where: str) -> Job:
    """A job with all its weekly fulls so many days later; 0 or None leaves it as it is."""
    if days is None:
        return job
    if not isinstance(days, int) or isinstance(days, bool):
        raise OperationError(where, days, "is not a whole number of days")
    if days == 0:
        return job
    weekly = [i for i, schedule in enumerate(job.schedules) if is_weekly_full(schedule)]
    if not weekly:
        raise OperationError(where, days, f"moves no weekly full of {job.name}: it has none")
    for position in weekly:
        try:
            job = with_full_moved(job, position, days)
        except OperationError as error:
            raise OperationError(where, days, error.reason) from None
    return job


@dataclass(frozen=True, slots=True)
class SplitJob:
    """Make several jobs of one: the first part stays, the others are new jobs like it.

    The first part keeps the rules, so that what comes to match later joins it. Restore points go
    along with the machines, so that no part needs a second full.

    Attributes:
        parts: of each new job {`id`, `name`, `machines` [ids], `repository` (None: the same),
            `full_days` (None: 0)}: its weekly fulls run so many days later than those of the job,
            earlier where that is below 0.
    """

    name: ClassVar[str] = "SplitJob"
    job: str
    parts: tuple[Mapping[str, Any], ...]

    def apply(self, plan: Plan) -> Plan:
        job = editable_job(plan, self.job)
        mine = {machine.id for machine in selected_machines(plan, job)}
        taken: dict[str, str] = {}
        made: list[Job] = []
        if not 1 <= len(self.parts) < MOST_GROUPS:
            reason = f"are not between 1 and {MOST_GROUPS - 1} new jobs"
            raise OperationError("parts", len(self.parts), reason)
        for i, part in enumerate(self.parts):
            made.append(self._part(plan, job, i, part, mine, taken))
            taken.update(dict.fromkeys(made[-1].machines.ids, made[-1].id))
        if not mine.difference(taken):
            raise OperationError("parts", sorted(taken), f"leave no machine to {job.name}")
        rest = replace(
            job.machines,
            ids=tuple(m for m in job.machines.ids if m not in taken),
            exclude=(*job.machines.exclude, *sorted(taken)) if job.machines.rules
            else job.machines.exclude,
        )  # fmt: skip
        position = plan.job_position[job.id]
        jobs = list(plan.jobs)
        jobs[position : position + 1] = [replace(job, machines=rest), *made]
        split = replace(plan, jobs=tuple(jobs))
        return with_handovers(split, _along(plan, job.id, taken))

    def _part(
        self, plan: Plan, job: Job, i: int, part: Mapping[str, Any], mine: set[str],
        taken: Mapping[str, str],
    ) -> Job:  # fmt: skip
        where = f"parts[{i}]"
        if not isinstance(part, Mapping):
            raise OperationError(where, part, "is not an object")
        for key in part:
            if key not in ("id", "name", "machines", "repository", "full_days"):
                raise OperationError(f"{where}.{key}", part[key], "is no key of a part")
        ident, machines = part.get("id"), part.get("machines")
        if not isinstance(ident, str) or not ident:
            raise OperationError(f"{where}.id", ident, "is not an id")
        others = {p.get("id") for p in self.parts[:i] if isinstance(p, Mapping)}
        if ident in plan.job_by_id or ident in others:
            raise OperationError(f"{where}.id", ident, "is the id of another job")
        if not isinstance(machines, list | tuple) or not machines:
            raise OperationError(f"{where}.machines", machines, "names no machine")
        for machine in machines:
            if machine not in mine:
                raise OperationError(f"{where}.machines", machine, f"is not in {job.name}")
            if machine in taken:
                raise OperationError(f"{where}.machines", machine, "is in another part already")
        repository = part.get("repository") or job.repository
        if repository not in plan.repository_by_id:
            reason = "is not the id of a repository of this plan"
            raise OperationError(f"{where}.repository", repository, reason)
        chosen = set(machines)
        name = part.get("name") or ident
        if not isinstance(name, str):
            raise OperationError(f"{where}.name", name, "is not a text")
        made = _with_fulls_moved(job, part.get("full_days"), f"{where}.full_days")
        return replace(
            made,
            id=ident,
            name=name,
            repository=repository,
            destinations=job.destinations if repository == job.repository else (),
            machines=Selection(ids=tuple(machines)),
            exclude_disks=tuple(x for x in job.exclude_disks if x[0] in chosen),
            exclude_paths=tuple(x for x in job.exclude_paths if x.machine in chosen),
            copies=tuple(copy for copy in job.copies if copy.repository != repository),
        )

    def describe(self, plan: Plan) -> str:
        told = []
        for part in self.parts:
            said = count(len(part.get("machines", ())), "machine")
            if days := part.get("full_days"):
                said += f", fulls {count(abs(days), 'day')} {'later' if days > 0 else 'earlier'}"
            told.append(f"{part.get('name') or part.get('id')} ({said})")
        made = "new job" if len(told) == 1 else "new jobs"
        return f"{editable_job(plan, self.job).name}: split, {made} {', '.join(told)}"
