"""What protects each machine, since when it does not, and what speaks for care with it."""

from __future__ import annotations

from collections import defaultdict
from dataclasses import dataclass
from datetime import date
from typing import Literal
from zoneinfo import ZoneInfo

from gambrel.core.findings.model import Thresholds
from gambrel.core.model.selection import selected_machines
from gambrel.core.nights.nights import planner_zone
from gambrel.core.plan.objects import ExistingPoint, Machine, Plan
from gambrel.core.schedules.calendars import local_of
from gambrel.core.units import DAY, HOUR
from gambrel.core.words import count, duration, gib

State = Literal["not protected", "stale", "twice", "protected", "left out", "gone"]
STATES: tuple[State, ...] = ("not protected", "stale", "twice", "protected", "left out", "gone")
"""Gravest first, which is the order in which the table sorts them."""

STALE_AFTER_S = 3 * DAY
"""A machine without an RPO whose newest point is older than this, or than its RPO, is stale."""
OLD_SNAPSHOT_S = 3 * DAY
"""A snapshot that somebody took by hand and forgot for longer than this is a hazard."""


@dataclass(frozen=True, slots=True)
class Hazard:
    """Something that a backup would stumble over: a short name and one line."""

    kind: Literal["snapshot", "backup disk", "off", "no quiesce"]
    words: str


@dataclass(frozen=True, slots=True)
class Coverage:
    """What protects a machine.

    Attributes:
        jobs: ids of the jobs that select it.
        newest: start instant of its newest point; None where there is none.
        since: from when on it is not protected: the date of its newest point where no job selects
            it, else of its coming into the plan; None where it is protected, or nobody knows.
        words: the state in one line.
    """

    state: State
    jobs: tuple[str, ...]
    newest: float | None
    since: date | None
    words: str
    hazards: tuple[Hazard, ...]


def coverage(plan: Plan, now: float) -> dict[str, Coverage]:
    """The coverage of every machine of a plan, at an instant."""
    jobs: dict[str, list[str]] = defaultdict(list)
    for job in plan.jobs:
        for machine in selected_machines(plan, job):
            jobs[machine.id].append(job.id)
    newest: dict[str, ExistingPoint] = {}
    for point in plan.state.points:
        known = newest.get(point.machine)
        if known is None or point.at > known.at:
            newest[point.machine] = point
    zone = planner_zone(plan)
    return {
        machine.id: _of(machine, tuple(jobs[machine.id]), newest.get(machine.id), now, zone)
        for machine in plan.machines
    }


def _of(
    machine: Machine, jobs: tuple[str, ...], point: ExistingPoint | None, now: float, zone: str
) -> Coverage:
    at = None if point is None else point.at
    since: date | None = None
    facts = machine.facts
    state: State
    if machine.gone:
        state, words = "gone", f"gone since {_day(facts.gone_since)}; its points are kept"
    elif jobs:
        limit = STALE_AFTER_S if machine.rpo_hours is None else machine.rpo_hours * HOUR
        age = None if at is None else now - at
        if age is None:
            state, words = "stale", "no point of it exists yet"
            since = facts.known_since
        elif age > limit:
            state, words = "stale", f"its newest point is {duration(age)} old"
            since = None if at is None else _date(at, zone)
        else:
            state = "twice" if len(jobs) > 1 else "protected"
            words = count(len(jobs), "job")
    elif facts.left_out is not None:
        state, words = "left out", facts.left_out.reason
    else:
        state = "not protected"
        since = facts.known_since if at is None else _date(at, zone)
        if at is not None:
            words = f"since {_day(since)}, when its last point was made"
        elif since is not None:
            words = f"never was; in the plan since {_day(since)}"
        else:
            words = "never was; nobody wrote down since when it is there"
    return Coverage(state, jobs, at, since, words, hazards(machine, now))


def _date(instant: float, zone: str) -> date:
    return local_of(instant, ZoneInfo(zone)).date()


def _day(day: date | None) -> str:
    return "an unknown day" if day is None else f"{day:%d %b %Y}".lstrip("0")


def hazards(machine: Machine, now: float) -> tuple[Hazard, ...]:
    """What a backup of a machine would stumble over."""
    found: list[Hazard] = []
    for shot in machine.facts.snapshots:
        if now - shot.taken_at > OLD_SNAPSHOT_S:
            found.append(
                Hazard(
                    "snapshot",
                    f"Snapshot {shot.name} ({gib(shot.gib)}) is {duration(now - shot.taken_at)} "
                    "old. A backup reads the machine as it is now and may merge it away.",
                )
            )
    words = Thresholds().backup_disk_words
    for disk in machine.disks:
        if disk.holds_backups or any(word in disk.id.casefold() for word in words):
            found.append(
                Hazard("backup disk", f"Disk {disk.id} ({gib(disk.used_gib)}) holds backups.")
            )
    if not machine.powered_on:
        found.append(Hazard("off", "It is switched off: its points are of a machine at rest."))
    if not machine.facts.quiesces:
        found.append(
            Hazard("no quiesce", "It cannot be quiesced: its points are as after a power cut.")
        )
    return tuple(found)
