"""Schedules moved as a whole: every date that a rule gives moves by the same time.

A move either does that to each of them or is refused with the reason. What is skipped on a date
stays skipped on that date, and dates that were added by hand stay where they are: both are dates,
not part of the rule.
"""

from __future__ import annotations

import re
from dataclasses import replace
from datetime import UTC, datetime, timedelta
from zoneinfo import ZoneInfo

from gambrel.core.plan.objects import DayRowSchedule, RuleSchedule, Schedule
from gambrel.core.plan.recurrence_rules import parse_rule
from gambrel.core.schedules.calendars import ONE_DAY, instant_of, local_of
from gambrel.core.schedules.words import CODES, rule_parts

_BY_DATE = ("YEARLY", "MONTHLY", "WEEKLY", "DAILY")
"""Frequencies whose times of day are all that of the start."""
_OF_A_WEEK = {"FREQ", "INTERVAL", "BYDAY", "BYSETPOS", "WKST", "COUNT", "UNTIL"}
"""Parts of a rule that mean the same on every day of the calendar."""
_OF_A_MONTH = {"FREQ", "INTERVAL", "BYDAY", "BYMONTH", "WKST", "COUNT", "UNTIL"}
_PLAIN = {"FREQ", "INTERVAL", "WKST", "COUNT", "UNTIL"}
_CLOCK_PARTS = ("BYHOUR", "BYMINUTE", "BYSECOND")
_NUMBERED = re.compile(r"([+-]?)([1-5])(MO|TU|WE|TH|FR|SA|SU)")
_UNTIL_FORM = "%Y%m%dT%H%M%S"


class CannotMove(ValueError):
    """A schedule that cannot move as a whole; the text says why, for "this schedule ..."."""


def weeks_between(schedule: Schedule) -> int | None:
    """How many weeks apart the dates of a weekly rule are; None for any other schedule."""
    if not isinstance(schedule, RuleSchedule):
        return None
    parts = rule_parts(schedule.rrule)
    return int(parts.get("INTERVAL", "1")) if parts.get("FREQ") == "WEEKLY" else None


def is_on_numbered_weekday(schedule: Schedule) -> bool:
    """Whether a schedule is one on a single numbered weekday of the month: "second Saturday"."""
    if not isinstance(schedule, RuleSchedule):
        return False
    parts = rule_parts(schedule.rrule)
    numbered = _NUMBERED.fullmatch(parts.get("BYDAY", "")) is not None
    return numbered and parts["FREQ"] == "MONTHLY" and set(parts) <= _OF_A_MONTH


def moved(schedule: Schedule, by: timedelta) -> Schedule:
    """A schedule of which every date and time of the rule moves by the same.

    Args:
        by: by the wall clock.

    Raises:
        CannotMove: where no schedule does that.
    """
    if not by:
        return schedule
    if isinstance(schedule, DayRowSchedule):
        return _moved_row(schedule, by)
    return _moved_rule(schedule, by)


# --- one rule -----------------------------------------------------------------------------------


def _with_parts(rule: str, **changes: str | None) -> str:
    """A rule with some parts set anew; None takes one away."""
    said = rule.split(";")
    names = [part.split("=", 1)[0].upper() for part in said]
    kept = [p for p, name in zip(said, names, strict=True) if changes.get(name, "") is not None]
    found = []
    for part in kept:
        name = part.split("=", 1)[0].upper()
        found.append(f"{name}={changes[name]}" if name in changes else part)
    found += [f"{name}={v}" for name, v in changes.items() if v is not None and name not in names]
    return ";".join(found)


def _moved_until(schedule: RuleSchedule, by: timedelta) -> str:
    """The rule with its UNTIL moved along, in the form that it has."""
    until = rule_parts(schedule.rrule).get("UNTIL")
    if until is None:
        return schedule.rrule
    if not until.endswith("Z"):
        last = datetime.strptime(until, _UNTIL_FORM) + by
        return _with_parts(schedule.rrule, UNTIL=f"{last:{_UNTIL_FORM}}")
    zone = ZoneInfo(schedule.time_zone)
    at = datetime.strptime(until, _UNTIL_FORM + "Z").replace(tzinfo=UTC).timestamp()
    last = datetime.fromtimestamp(instant_of(local_of(at, zone) + by, zone), UTC)
    return _with_parts(schedule.rrule, UNTIL=f"{last:{_UNTIL_FORM}}Z")


def _moved_rule(schedule: RuleSchedule, by: timedelta) -> RuleSchedule:
    parts = rule_parts(schedule.rrule)
    clock = [name for name in _CLOCK_PARTS if name in parts]
    if clock:
        raise CannotMove(f"names its own times ({clock[0]})")
    start = schedule.start + by
    days = (start.date() - schedule.start.date()).days
    if parts["FREQ"] not in _BY_DATE:
        named = sorted(set(parts) - _PLAIN)
        if named:
            raise CannotMove(f"runs many times a day and names dates ({named[0]})")
        if schedule.until is not None:
            raise CannotMove("runs many times a day up to a last date")
        return replace(schedule, start=start, rrule=_moved_until(schedule, by))
    rule = _moved_until(schedule, by)
    if days:
        rule = _on_other_days(rule, days)
    until = None if schedule.until is None else schedule.until + timedelta(days=days)
    return replace(schedule, start=start, rrule=rule, until=until)


def _on_other_days(rule: str, by: int) -> str:
    """The rule with its weekdays moved by some days, its weeks beginning as much later.

    Raises:
        CannotMove: where the rule names dates that do not move along with a weekday.
    """
    parts = rule_parts(rule)
    if parts["FREQ"] not in ("DAILY", "WEEKLY"):
        raise CannotMove(f"is not by the week (FREQ={parts['FREQ']})")
    named = sorted(set(parts) - _OF_A_WEEK)
    if named:
        raise CannotMove(f"names dates that stay where they are ({named[0]})")
    codes = parts["BYDAY"].split(",") if "BYDAY" in parts else []
    if any(code not in CODES for code in codes):
        raise CannotMove("names numbered weekdays")

    def later(code: str) -> str:
        return CODES[(CODES.index(code) + by) % 7]

    changes: dict[str, str | None] = {}
    if codes:
        changes["BYDAY"] = ",".join(later(code) for code in codes)
    # Which days belong to one week counts where weeks are left out, or days are picked by number.
    weeks_matter = parts.get("INTERVAL", "1") != "1" or "BYSETPOS" in parts
    if by % 7 and parts["FREQ"] == "WEEKLY" and weeks_matter:
        changes["WKST"] = later(parts.get("WKST", "MO"))
    return _with_parts(rule, **changes)


def in_another_week(schedule: RuleSchedule, weeks: int) -> RuleSchedule:
    """A schedule on one numbered weekday of the month, some weeks later or earlier in the month.

    Raises:
        CannotMove: where some month would gain or lose a date.
    """
    if not weeks:
        return schedule
    was = _NUMBERED.fullmatch(rule_parts(schedule.rrule)["BYDAY"])
    assert was is not None
    sign = -1 if was[1] == "-" else 1
    number = sign * int(was[2])
    if abs(number) == 5:
        raise CannotMove("falls on a fifth weekday, which most months do not have")
    new = number + weeks
    if not (1 <= new <= 4 if sign > 0 else -4 <= new <= -1):
        raise CannotMove("would leave the month")
    by = timedelta(weeks=weeks)
    # From the first date on: a start in between might be in another month than the dates are.
    first = next(iter(parse_rule(schedule.rrule, schedule.start).rule), None)
    if first is None:
        raise CannotMove("has no date")
    rule = _with_parts(_moved_until(schedule, by), BYDAY=f"{new}{was[3]}")
    until = None if schedule.until is None else schedule.until + by
    return replace(schedule, start=first + by, rrule=rule, until=until)


# --- many runs a day ----------------------------------------------------------------------------


def _moved_row(schedule: DayRowSchedule, by: timedelta) -> DayRowSchedule:
    begin = datetime.combine(schedule.start, schedule.from_time)
    end = datetime.combine(schedule.start, schedule.to_time)
    if end <= begin:
        end += ONE_DAY
    days = ((begin + by).date() - schedule.start).days
    until = schedule.until
    if until is not None:
        # The last date is that of each run itself, wherever its row began.
        at, shifts = begin, set[int]()
        while at <= end:
            shifts.add(((at + by).date() - at.date()).days)
            at += timedelta(minutes=schedule.every_min)
        if len(shifts) > 1:
            raise CannotMove("has a last date, and only some of its runs would pass midnight")
        until += timedelta(days=shifts.pop())
    return replace(
        schedule,
        from_time=(begin + by).time(),
        to_time=(end + by).time(),
        days=tuple((day + days) % 7 for day in schedule.days),
        start=schedule.start + timedelta(days=days),
        until=until,
    )
