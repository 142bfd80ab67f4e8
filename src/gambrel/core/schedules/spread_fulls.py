"""Fulls of one job dealt over several days: the key `spread_fulls` of a job.

A job whose fulls are spread over n days takes, with each full of its schedule, the fulls of the
machines of group 0 only. The machines of group g take theirs with the first run on the g-th day
after it on which the job runs. So each machine has a full day of its own, and one rule says so for
all of them, whoever joins later.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from zoneinfo import ZoneInfo

from gambrel.core.model.selection import used_gib
from gambrel.core.plan.objects import Calendar, Job, Kind, Machine
from gambrel.core.schedules.calendars import job_occurrences, local_of
from gambrel.core.units import DAY

NOBODYS = -1
"""The turn of a run in which nobody takes a full that is not scheduled."""
LOOKED_BACK_S = (62 * DAY, 800 * DAY)
"""How far before a horizon the full is looked for from which days are counted: nearly always the
first is enough, and the answer is the same."""

Due = tuple[float, Kind, int, int]
"""(instant, kind, position of the schedule, turn) of an occurrence."""


def full_groups(job: Job, machines: Sequence[Machine]) -> list[int]:
    """The group of each of a job's machines: NOBODYS where its fulls are not spread.

    Dealt by falling used size, each to the group with least so far (longest processing time
    first: R. L. Graham, "Bounds on multiprocessing timing anomalies", 1969), then the first.
    """
    if job.spread_fulls == 1:
        return [NOBODYS] * len(machines)
    sums = [0.0] * job.spread_fulls
    groups = [0] * len(machines)
    sizes = [used_gib(machine) for machine in machines]
    for i in sorted(range(len(machines)), key=lambda i: (-sizes[i], i)):
        group = min(range(job.spread_fulls), key=lambda g: (sums[g], g))
        groups[i] = group
        sums[group] += sizes[i]
    return groups


def job_dues(
    job: Job, calendars: Mapping[str, Calendar], from_: float, to: float
) -> tuple[Due, ...]:
    """A job's own occurrences in [from_, to), each with the group whose turn for a full it is.

    The turn of a scheduled full is 0. Of the days after it, by the local dates of the schedules,
    the g-th on which the job runs is that of group g, in its first run. All other turns are
    NOBODYS.

    Raises:
        TooMuch: with the job, where there are too many.
    """
    if job.spread_fulls == 1:
        return tuple(
            (at, kind, position, NOBODYS)
            for at, kind, position in job_occurrences(job, calendars, from_, to)
        )
    zones = [ZoneInfo(schedule.time_zone) for schedule in job.schedules]
    found: list[Due] = []
    last_day, passed = None, NOBODYS
    for at, kind, position in _since_the_last_full(job, calendars, from_, to):
        day = local_of(at, zones[position]).date()
        turn = NOBODYS
        if kind == "full":
            passed = turn = 0
        elif passed >= 0 and day != last_day:
            passed += 1
            turn = passed
        last_day = day
        if at >= from_:
            found.append((at, kind, position, turn))
    return tuple(found)


def _since_the_last_full(
    job: Job, calendars: Mapping[str, Calendar], from_: float, to: float
) -> tuple[tuple[float, Kind, int], ...]:
    """A job's own occurrences before `to`, at least from its last full before `from_` on."""
    found: tuple[tuple[float, Kind, int], ...] = ()
    for back in LOOKED_BACK_S:
        found = job_occurrences(job, calendars, from_ - back, to)
        if any(kind == "full" and at < from_ for at, kind, _ in found):
            break
    return found


def kind_in_turn(scheduled: Kind, group: int, turn: int) -> Kind:
    """The kind that is scheduled for a machine of a group, in a run with a turn."""
    if group == NOBODYS:
        return scheduled
    if group == turn:
        return "full"
    return "incremental" if scheduled == "full" else scheduled
