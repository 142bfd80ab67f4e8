"""A plan as it will be: with the changes of the estate that are assumed, and with feared growth."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace
from datetime import date
from itertools import cycle
from math import inf
from typing import NamedTuple
from zoneinfo import ZoneInfo

from gambrel.core.caches import MIB, ByteCache
from gambrel.core.model.selection import holds
from gambrel.core.plan.objects import Assumption, Host, Job, Machine, Plan
from gambrel.core.runway.projection import Lifetime
from gambrel.core.schedules.calendars import midnight
from gambrel.core.simulation.known_points import Snapshot
from gambrel.core.units import DAY

MOST_MACHINES = 5_000
"""How many machines one assumption brings at most."""


class AssumptionError(ValueError):
    """An assumption that cannot be made: its name and the reason, for people."""

    def __init__(self, assumption: str, reason: str) -> None:
        self.assumption = assumption
        self.reason = reason
        super().__init__(f"{assumption}: {reason}")


@dataclass(frozen=True, slots=True)
class Expected:
    """A plan with all the machines that will ever be there, and when each of them is.

    Attributes:
        lifetimes: by machine, of those that are not there all the time.
        meant: by assumption that counts, how many machines it is about today.
    """

    plan: Plan
    lifetimes: Mapping[str, Lifetime]
    meant: Mapping[str, int]

    def at(self, instant: float) -> Plan:
        """The plan with those machines only that are there at an instant."""
        gone = {
            machine
            for machine, life in self.lifetimes.items()
            if not life.since <= instant < life.until
        }
        if not gone:
            return self.plan
        stay = tuple(machine for machine in self.plan.machines if machine.id not in gone)
        jobs = tuple(_without(job, gone) for job in self.plan.jobs)
        known = {machine.id for machine in stay}
        points = tuple(p for p in self.plan.state.points if p.machine in known)
        state = replace(self.plan.state, points=points)
        return replace(self.plan, machines=stay, jobs=jobs, state=state)

    def points_for(self, plan: Plan, points: Snapshot) -> Snapshot:
        """Points of all its machines for a plan that `at` gave."""
        return points if plan is self.plan else points.of_plan(self.plan, plan)


def meant_by(plan: Plan, assumption: Assumption) -> list[Machine]:
    """The machines of today that the rules of an assumption name."""
    return [
        machine
        for machine in plan.machines
        if not machine.gone
        and any(
            all(holds(plan, condition, machine) for condition in rule) for rule in assumption.rules
        )
    ]


def expected(plan: Plan, *, feared_growth: float | None = None) -> Expected:
    """A plan with its assumptions that count.

    Machines that join are like those that the rules name, one after the other: as large as they
    will be by then, on the same hosts, in the jobs that take those. Of several assumptions about
    one machine, it leaves with the first, and grows as the last says.

    Args:
        feared_growth: the least that every machine grows by in a year.

    Raises:
        AssumptionError: where too many machines would join.
    """
    key = (id(plan.machines), id(plan.hosts), plan.sites, plan.assumptions, feared_growth)
    estate = _estates.once(key, lambda: _estate(plan, feared_growth))
    if estate.machines is plan.machines and not estate.lives:
        return Expected(plan, estate.lives, estate.meant)
    jobs = tuple(_with_twins(job, estate.more) for job in plan.jobs) if estate.more else plan.jobs
    return Expected(replace(plan, machines=estate.machines, jobs=jobs), estate.lives, estate.meant)


class _Estate(NamedTuple):
    """The machines that will ever be there.

    Attributes:
        of: of what it was made; held, so that no other estate can stand where that does.
        more: each machine that joins, with the id of the one that it is like.
    """

    of: tuple[tuple[Machine, ...], tuple[Host, ...]]
    machines: tuple[Machine, ...]
    lives: Mapping[str, Lifetime]
    more: Sequence[tuple[Machine, str]]
    meant: Mapping[str, int]

    def nbytes(self) -> int:
        """About what it takes beside the estate that it was made of."""
        own = 0 if self.machines is self.of[0] else len(self.machines)
        return 1000 + 2000 * own + 400 * len(self.lives)


_estates: ByteCache[_Estate] = ByteCache("estates as expected", 64 * MIB, _Estate.nbytes)


def _estate(plan: Plan, feared_growth: float | None) -> _Estate:
    zone = ZoneInfo(plan.sites[0].time_zone)
    lives: dict[str, Lifetime] = {}
    growth: dict[str, float] = {}
    more: list[tuple[Machine, str]] = []
    taken = set(plan.machine_by_id)
    meant: dict[str, int] = {}
    for assumption in plan.assumptions:
        if not assumption.active:
            continue
        found = meant_by(plan, assumption)
        meant[assumption.id] = len(found)
        if assumption.kind == "grows":
            growth |= {machine.id: assumption.growth_per_year or 0.0 for machine in found}
            continue
        assert assumption.on is not None
        at = midnight(assumption.on, zone)
        if assumption.kind == "leaves":
            for machine in found:
                known = lives.get(machine.id, Lifetime())
                if at < known.until:
                    days = assumption.points_kept_days
                    go = inf if days is None else at + days * DAY
                    lives[machine.id] = replace(known, until=at, points_go=go)
        elif found:
            for machine, like in _joining(assumption, found, taken):
                more.append((machine, like))
                lives[machine.id] = Lifetime(since=at)
    machines = tuple(
        _growing(machine, growth.get(like, machine.facts.growth_per_year), feared_growth)
        for machine, like in (*((m, m.id) for m in plan.machines), *more)
    )
    if not more and all(now is was for now, was in zip(machines, plan.machines, strict=True)):
        machines = plan.machines
    return _Estate((plan.machines, plan.hosts), machines, lives, more, meant)


def _joining(
    assumption: Assumption, like: Sequence[Machine], taken: set[str]
) -> list[tuple[Machine, str]]:
    count = len(like) if assumption.count is None else assumption.count
    if count > MOST_MACHINES:
        raise AssumptionError(
            assumption.id, f"brings {count:,} machines; at most {MOST_MACHINES:,} are looked at"
        )
    made = []
    for number, machine in zip(range(1, count + 1), cycle(like), strict=False):
        ident = f"{machine.id} ({assumption.id} {number})"
        while ident in taken:
            ident += "'"
        taken.add(ident)
        made.append((replace(machine, id=ident), machine.id))
    return made


def _growing(machine: Machine, growth: float, feared: float | None) -> Machine:
    wanted = growth if feared is None else max(growth, feared)
    if wanted == machine.facts.growth_per_year:
        return machine
    return replace(machine, facts=replace(machine.facts, growth_per_year=wanted))


def _with_twins(job: Job, more: Sequence[tuple[Machine, str]]) -> Job:
    """A job that takes, and leaves out, the twins of what it names itself."""
    named, left_out = set(job.machines.ids), set(job.machines.exclude)
    ids = tuple(machine.id for machine, like in more if like in named)
    exclude = tuple(machine.id for machine, like in more if like in left_out)
    disks = tuple(
        (machine.id, disk)
        for machine, like in more
        for owner, disk in job.exclude_disks
        if owner == like
    )
    paths = tuple(
        replace(path, machine=machine.id)
        for machine, like in more
        for path in job.exclude_paths
        if path.machine == like
    )
    if not (ids or exclude or disks or paths):
        return job
    return replace(
        job,
        machines=replace(
            job.machines, ids=job.machines.ids + ids, exclude=job.machines.exclude + exclude
        ),
        exclude_disks=job.exclude_disks + disks,
        exclude_paths=job.exclude_paths + paths,
    )


def _without(job: Job, gone: set[str]) -> Job:
    """A job that names none of some machines."""
    chosen = job.machines
    if not gone.intersection(chosen.ids, chosen.exclude) and not job.exclude_disks:
        return job
    return replace(
        job,
        machines=replace(
            chosen,
            ids=tuple(m for m in chosen.ids if m not in gone),
            exclude=tuple(m for m in chosen.exclude if m not in gone),
        ),
        exclude_disks=tuple(pair for pair in job.exclude_disks if pair[0] not in gone),
        exclude_paths=tuple(path for path in job.exclude_paths if path.machine not in gone),
    )


def local_midnight(plan: Plan, day: date) -> float:
    """The midnight with which a date begins in the first site's zone; UTC seconds."""
    return midnight(day, ZoneInfo(plan.sites[0].time_zone))
