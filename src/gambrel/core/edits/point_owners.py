"""Whose restore points are, and where they lie: a job goes on from points that exist."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Container, Iterable, Mapping, Sequence
from dataclasses import dataclass, replace
from typing import ClassVar

from gambrel.core.edits.item_edits import OperationError, editable_job
from gambrel.core.model.destinations import destination_of, machines_by_destination
from gambrel.core.model.selection import selected_machines
from gambrel.core.model.volume import protected_bytes, protected_disks
from gambrel.core.plan.objects import ExistingPoint, Job, Plan
from gambrel.core.simulation.known_points import usable_of
from gambrel.core.words import count

Owner = tuple[str, str]
"""The job of a point, and its repository."""


@dataclass(frozen=True, slots=True)
class Handover:
    """Points of some machines that come to be another job's, or to lie in another repository."""

    job: str
    repository: str
    to_job: str
    to_repository: str
    machines: tuple[str, ...]


def handed_over(
    plan: Plan, points: Iterable[ExistingPoint], handovers: Iterable[Handover]
) -> tuple[ExistingPoint, ...]:
    """Points under their new owners, with the bytes that they take where they lie then."""
    new_owner = {
        (each.job, each.repository, machine): (each.to_job, each.to_repository)
        for each in handovers
        for machine in each.machines
    }
    return tuple(
        _owned(plan, point, new_owner.get((point.job, point.repository, point.machine)))
        for point in points
    )


def stored_factor(plan: Plan, repository: str, to_repository: str) -> float:
    """What a stored byte becomes in a repository: the wire bytes of a point stay the same.

    1 where the plan has one of them no longer.
    """
    of = plan.repository_by_id
    if repository not in of or to_repository not in of:
        return 1.0
    return of[repository].dedupe_ratio / of[to_repository].dedupe_ratio


def _owned(plan: Plan, point: ExistingPoint, owner: Owner | None) -> ExistingPoint:
    if owner is None:
        return point
    job, repository = owner
    stored = point.stored_bytes * stored_factor(plan, point.repository, repository)
    return replace(point, job=job, repository=repository, stored_bytes=stored)


def handovers(
    before: Iterable[ExistingPoint], after: Iterable[ExistingPoint]
) -> tuple[Handover, ...]:
    """What became of chains of points: those that have another owner now, by their owners.

    Machine, start and kind tell one point from another. A copy has all three of its original: each
    of the two keeps its owner as long as that owner still has it.
    """
    owners: dict[tuple[str, int, str], list[Owner]] = defaultdict(list)
    for point in after:
        owners[_told(point)].append((point.job, point.repository))
    had: dict[tuple[str, int, str], list[Owner]] = defaultdict(list)
    for point in before:
        had[_told(point)].append((point.job, point.repository))
    new_owner: dict[tuple[str, str, str], Owner] = {}
    for told, those in had.items():
        free = [owner for owner in owners[told] if owner not in those]
        for job, repository in those:
            if (job, repository) in owners[told] or not free:
                continue
            best = min(free, key=lambda o: (o[1] != repository, o[0] != job))
            new_owner[job, repository, told[0]] = best
    grouped: dict[tuple[str, str, str, str], list[str]] = defaultdict(list)
    for (job, repository, machine), owner in new_owner.items():
        grouped[job, repository, *owner].append(machine)
    return tuple(Handover(*key, tuple(machines)) for key, machines in grouped.items())


def _told(point: ExistingPoint) -> tuple[str, int, str]:
    return point.machine, round(point.at * 1000), point.kind


# --- points that a job could go on from ---------------------------------------------------------


@dataclass(frozen=True, slots=True)
class PointsElsewhere:
    """Points that a job could go on from, if they were its own and in its repository.

    Attributes:
        job, repository: whose they are, and where they lie.
        machines: those that would need no full of their own then.
        full_bytes: what those fulls would hold.
        carried: whether some would have to be carried to another repository first.
    """

    job: str
    repository: str
    points: int
    machines: tuple[str, ...]
    full_bytes: float
    carried: bool


def points_elsewhere(plan: Plan, job: Job) -> list[PointsElsewhere]:
    """Usable points of a job's machines that are not in its own chain, most bytes saved first.

    Only of machines that have no usable point in the job's own chain: only those begin with a full.
    Points of another job count where that job does not select the machine any more. Where the job's
    copies go, its points stay: the next copies build on them.
    """
    copied_to = {copy.repository for copy in job.copies}
    mine = {machine.id: machine for machine in selected_machines(plan, job)}
    of_mine = [point for point in plan.state.points if point.machine in mine]
    if not of_mine:
        return []
    usable = usable_of(of_mine)
    goes_to = {name: destination_of(plan, job, machine) for name, machine in mine.items()}
    begun = {p.machine for p in usable if p.job == job.id and p.repository == goes_to[p.machine]}
    kept: dict[str, set[str]] = {}
    groups: dict[Owner, dict[str, int]] = defaultdict(lambda: defaultdict(int))
    for point in usable:
        if point.machine in begun:
            continue
        if point.job == job.id:
            if point.repository in copied_to:
                continue
        else:
            giver = plan.job_by_id[point.job]
            if giver.id not in kept:
                kept[giver.id] = {machine.id for machine in selected_machines(plan, giver)}
            if point.machine in kept[giver.id]:
                continue
        groups[point.job, point.repository][point.machine] += 1
    found = [
        PointsElsewhere(
            *owner,
            sum(counted.values()),
            tuple(counted),
            sum(
                protected_bytes(job, mine[name], disk)
                for name in counted
                for disk in protected_disks(job, mine[name])
            ),
            any(goes_to[name] != owner[1] for name in counted),
        )
        for owner, counted in groups.items()
    ]
    return sorted(found, key=lambda each: -each.full_bytes)


# --- operations -------------------------------------------------------------------------------


@dataclass(frozen=True, slots=True)
class TakeOverPoints:
    """Let a job go on from restore points that another job made, so that no second full is needed.

    It takes those of the machines that it selects and the other does not.
    """

    name: ClassVar[str] = "TakeOverPoints"
    job: str
    from_job: str

    def _handovers(self, plan: Plan) -> tuple[Handover, ...]:
        job, giver = editable_job(plan, self.job), plan.job_by_id.get(self.from_job)
        if giver is None or giver is job:
            raise OperationError("from_job", self.from_job, "is not the id of another job")
        kept = {machine.id for machine in selected_machines(plan, giver)}
        taken = {m.id for m in selected_machines(plan, job)} - kept
        places = chains_of(plan, giver.id, taken)
        return tuple(Handover(giver.id, at, job.id, at, those) for at, those in places.items())

    def apply(self, plan: Plan) -> Plan:
        found = self._handovers(plan)
        if not found:
            reason = f"has no point of a machine that only {self.job} selects"
            raise OperationError("from_job", self.from_job, reason)
        return with_handovers(plan, found)

    def describe(self, plan: Plan) -> str:
        points = _moved(plan, self._handovers(plan))
        giver = plan.job_by_id[self.from_job].name
        return (
            f"{editable_job(plan, self.job).name}: goes on from {count(points, 'point')} of {giver}"
        )


@dataclass(frozen=True, slots=True)
class CarryPoints:
    """Say that a job's points of another repository were carried to the one it writes to now.

    The job goes on from them there, so that no second full is needed.
    """

    name: ClassVar[str] = "CarryPoints"
    job: str
    from_repository: str

    def _handovers(self, plan: Plan) -> tuple[Handover, ...]:
        job = editable_job(plan, self.job)
        if self.from_repository not in plan.repository_by_id:
            reason = "is not the id of a repository of this plan"
            raise OperationError("from_repository", self.from_repository, reason)
        homes = machines_by_destination(plan, job)
        if self.from_repository in homes and len(homes) == 1:
            reason = f"is the repository of {job.name}; choose another one for it first"
            raise OperationError("from_repository", self.from_repository, reason)
        found = []
        for to, machines in homes.items():
            there = chains_of(plan, job.id, {machine.id for machine in machines})
            those = there.get(self.from_repository)
            if those and to != self.from_repository:
                found.append(Handover(job.id, self.from_repository, job.id, to, those))
        return tuple(found)

    def apply(self, plan: Plan) -> Plan:
        found = self._handovers(plan)
        if not found:
            reason = f"holds no point of a machine of {self.job}"
            raise OperationError("from_repository", self.from_repository, reason)
        return with_handovers(plan, found)

    def describe(self, plan: Plan) -> str:
        job, found = editable_job(plan, self.job), self._handovers(plan)
        to = " and ".join(each.to_repository for each in found)
        said = f"{count(_moved(plan, found), 'point')} carried from {self.from_repository} to {to}"
        return f"{job.name}: {said}"


def with_handovers(plan: Plan, found: Sequence[Handover]) -> Plan:
    """The plan with points of its state under other owners."""
    points = handed_over(plan, plan.state.points, found)
    return replace(plan, state=replace(plan.state, points=points))


def chains_of(plan: Plan, job: str, machines: Container[str]) -> Mapping[str, tuple[str, ...]]:
    """By repository, those of the given machines that have points of a job there."""
    found: dict[str, dict[str, None]] = defaultdict(dict)
    for point in plan.state.points:
        if point.job == job and point.machine in machines:
            found[point.repository][point.machine] = None
    return {repository: tuple(those) for repository, those in found.items()}


def _moved(plan: Plan, found: Iterable[Handover]) -> int:
    chains = {(each.job, each.repository, m) for each in found for m in each.machines}
    return sum((p.job, p.repository, p.machine) in chains for p in plan.state.points)
