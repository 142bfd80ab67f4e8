"""Fulls on other nights or in other weeks: what becomes of the schedules of a job."""

from __future__ import annotations

import re
from collections.abc import Iterable
from dataclasses import replace
from datetime import datetime, timedelta
from itertools import takewhile

from gambrel.core.edits.item_edits import OperationError
from gambrel.core.plan.objects import Job, RuleSchedule, Schedule
from gambrel.core.plan.recurrence_rules import parse_rule
from gambrel.core.schedules.moves import (
    CannotMove,
    in_another_week,
    is_on_numbered_weekday,
    moved,
    weeks_between,
)
from gambrel.core.schedules.words import CODES, rule_parts


def is_weekly_full(schedule: Schedule) -> bool:
    """Whether a schedule makes a full on one weekday, every week or every few weeks."""
    return (
        schedule.kind == "full"
        and isinstance(schedule, RuleSchedule)
        and rule_parts(schedule.rrule).get("FREQ") == "WEEKLY"
        and len(rule_parts(schedule.rrule).get("BYDAY", "").split(",")) == 1
    )


def with_full_moved(job: Job, position: int, days: int) -> Job:
    """A job with a full so many days later, and what ran on its new day changed places with it.

    Args:
        position: of the schedule, which the job has.

    Raises:
        OperationError: naming `schedule` or `days` where that is no full or cannot be moved so.
    """
    schedule = job.schedules[position]
    if schedule.kind != "full":
        raise OperationError("schedule", position, f"is of kind {schedule.kind}, not full")
    weeks = weeks_between(schedule)
    most = 7 * (weeks or 5) - 1
    if not -most <= days <= most:
        raise OperationError("days", days, f"is not between {-most} and {most}")
    try:
        made = _full_moved(schedule, position, days)
    except CannotMove as error:
        raise OperationError("days", days, f"cannot be done: the rule {error}") from None
    others = list(job.schedules)
    if weeks == 1:
        old, new = weekdays_of_weekly(schedule), weekdays_of_weekly(made)
        others = [_changed_places(other, old, new, days) for other in others]
    others[position] = made
    return replace(job, schedules=tuple(others))


def _full_moved(schedule: Schedule, position: int, days: int) -> Schedule:
    if weeks_between(schedule) is not None:
        return moved(schedule, timedelta(days=days))
    if isinstance(schedule, RuleSchedule) and is_on_numbered_weekday(schedule):
        number, rest = divmod(days, 7)
        if rest:
            reason = "is no whole number of weeks, as a numbered weekday moves by"
            raise OperationError("days", days, reason)
        return in_another_week(schedule, number)
    reason = "is neither a weekly full nor one on a numbered weekday"
    raise OperationError("schedule", position, reason)


def weekdays_of_weekly(schedule: Schedule) -> list[str]:
    """The weekdays that a weekly rule names; none where it is no such rule."""
    if not isinstance(schedule, RuleSchedule):
        return []
    parts = rule_parts(schedule.rrule)
    codes = parts.get("BYDAY", "").split(",")
    plain = parts.get("FREQ") == "WEEKLY" and all(code in CODES for code in codes)
    return codes if plain else []


def _changed_places(schedule: Schedule, old: list[str], new: list[str], days: int) -> Schedule:
    """A weekly schedule that ran on the new day and not on the old one, on the old one instead.

    Each of its runs on the new day moves by `-days`; the others stay. One with an end of its own
    stays as it is.
    """
    codes = weekdays_of_weekly(schedule)
    if len(old) != 1 or len(new) != 1 or new[0] not in codes or old[0] in codes:
        return schedule
    assert isinstance(schedule, RuleSchedule)
    ends = {"COUNT", "UNTIL"}.intersection(rule_parts(schedule.rrule)) or schedule.until
    if weeks_between(schedule) != 1 or ends:
        return schedule
    swapped = ",".join(old[0] if code == new[0] else code for code in codes)
    rule = re.sub(r"(?i)BYDAY=[^;]*", f"BYDAY={swapped}", schedule.rrule)
    made = replace(schedule, rrule=rule)
    # In the week in which it starts the start may cut off another day than before.
    until = schedule.start + timedelta(days=14)
    wanted = {
        at - timedelta(days=days) if CODES[at.weekday()] == new[0] else at
        for at in _first_dates(schedule, until + timedelta(days=7))
    }
    wanted = {at for at in wanted if at < until}
    found = set(_first_dates(made, until))
    if found - wanted and schedule.when_skipped != "drop":
        return schedule
    return replace(
        made,
        extra=(*made.extra, *sorted(wanted - found)),
        skip_dates=(*made.skip_dates, *sorted(at.date() for at in found - wanted)),
    )


def _first_dates(schedule: RuleSchedule, until: datetime) -> Iterable[datetime]:
    return takewhile(lambda at: at < until, parse_rule(schedule.rrule, schedule.start).rule)
