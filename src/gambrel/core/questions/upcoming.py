"""The next occurrences of a job, with what calendars and clock changes do to them."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, replace
from datetime import datetime
from itertools import pairwise
from zoneinfo import ZoneInfo

from gambrel.core.plan.objects import Calendar, DayRowSchedule, Job, Kind, Plan, Schedule
from gambrel.core.schedules.calendars import (
    clock_moves,
    job_occurrences,
    local_of,
    occurrences,
)
from gambrel.core.schedules.words import runs_a_day, timing_in_words
from gambrel.core.units import DAY

LOOK_AHEAD_S = (14 * DAY, 60 * DAY, 400 * DAY)
"""How far ahead occurrences are looked for, until there are enough."""
ENOUGH = 10


@dataclass(frozen=True, slots=True)
class Upcoming:
    """A start of a job, or a date on which there would be one.

    Attributes:
        local: wall-clock time in the schedule's zone.
        kind: None where it does not run.
        note: what a calendar or a clock change does to it; "" for nothing.
    """

    at: float
    local: datetime
    time_zone: str
    schedule: int
    kind: Kind | None
    note: str = ""


@dataclass(frozen=True, slots=True)
class ScheduleLook:
    """A schedule as it is said, how often it runs a day, and when it runs next."""

    words: str
    a_day: int | None
    upcoming: tuple[Upcoming, ...]


def _skipped(
    schedule: Schedule, calendars: Mapping[str, Calendar], position: int, from_: float, to: float
) -> list[Upcoming]:
    """Dates on which a schedule would run if no calendar said otherwise."""
    if not (schedule.skip or schedule.skip_dates):
        return []
    free = replace(schedule, skip=(), skip_dates=())
    kept = set(occurrences(schedule, calendars, from_, to))
    zone = ZoneInfo(schedule.time_zone)
    dates = {day: name for name in schedule.skip for day in calendars[name].dates}
    dates.update(dict.fromkeys(schedule.skip_dates, "left out"))
    note = "moved off" if schedule.when_skipped == "next_day" else "not on"
    found = []
    for at in occurrences(free, {}, from_, to):
        local = local_of(at, zone)
        if at in kept or local.date() not in dates:
            continue
        name = dates[local.date()]
        said = "left out" if name == "left out" else f"{note} {name}"
        found.append(Upcoming(at, local, schedule.time_zone, position, None, said))
    return found


def _of_schedule(plan: Plan, job: Job, position: int, from_: float, to: float) -> list[Upcoming]:
    schedule = job.schedules[position]
    zone = ZoneInfo(schedule.time_zone)
    clock = {
        at: "the clock skips this time: it starts an hour later by the clock"
        if skips
        else "this time comes twice: the first is meant"
        for _, at, skips in clock_moves(schedule, plan.calendar_by_id, from_, to)
    }
    found = _skipped(schedule, plan.calendar_by_id, position, from_, to)
    for at, kind, by in job_occurrences(job, plan.calendar_by_id, from_, to):
        if by == position:
            local = local_of(at, zone)
            note = clock.get(at, "")
            found.append(Upcoming(at, local, schedule.time_zone, position, kind, note))
    own = {entry.at for entry in found if entry.kind is not None}
    for at in occurrences(schedule, plan.calendar_by_id, from_, to):
        if at not in own and not job.on_hold:
            local = local_of(at, zone)
            note = "a heavier run of this job starts then"
            found.append(Upcoming(at, local, schedule.time_zone, position, None, note))
    return sorted(found, key=lambda entry: entry.at)


def look_at_schedule(plan: Plan, job: Job, position: int, from_: float) -> ScheduleLook:
    """A schedule of a job with its next occurrences from an instant on."""
    schedule = job.schedules[position]
    row = isinstance(schedule, DayRowSchedule)
    found: list[Upcoming] = []
    # Rows of many runs a day need no long look.
    for span in LOOK_AHEAD_S[:1] if row else LOOK_AHEAD_S:
        found = _of_schedule(plan, job, position, from_, from_ + span)
        if len(found) >= ENOUGH:
            break
    a_day = runs_a_day(schedule) if isinstance(schedule, DayRowSchedule) else None
    return ScheduleLook(timing_in_words(schedule), a_day, tuple(found[:ENOUGH]))


def interval_of_fulls_s(plan: Plan, job: Job, from_: float) -> float | None:
    """The longest time between two fulls within the next weeks; None with fewer than two."""
    starts = [
        at
        for at, kind, _ in job_occurrences(job, plan.calendar_by_id, from_, from_ + 70 * DAY)
        if kind == "full"
    ]
    gaps = [later - earlier for earlier, later in pairwise(starts)]
    return max(gaps, default=None)
