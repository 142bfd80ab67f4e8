"""Dates of a calendar from an iCalendar file (RFC 5545): each day of each event."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from datetime import date, datetime, time, timedelta
from typing import Any

from dateutil.rrule import rrulestr
from icalendar import Calendar

MOST_BYTES = 4 * 2**20
MOST_EVENTS = 5_000
MOST_DATES = 2_000
LONGEST_DAYS = 370
"""The longest event, in days."""


@dataclass(frozen=True, slots=True)
class IcsProblem:
    """What cannot be read: the event by name, the property, its value, the reason."""

    event: str
    property: str
    value: str
    reason: str


@dataclass(frozen=True, slots=True)
class Holidays:
    """What a file says.

    Attributes:
        dates: in order, each with what is on that day.
        problems: events that cannot be read; none of their dates are given.
    """

    dates: tuple[tuple[date, str], ...]
    problems: tuple[IcsProblem, ...]


class _BadEvent(ValueError):
    def __init__(self, prop: str, value: object, reason: str) -> None:
        self.problem = (prop, str(value)[:200], reason)
        super().__init__(reason)


def _day(value: date | datetime) -> date:
    return value.date() if isinstance(value, datetime) else value


def _length(event: Any, first: date) -> int:
    """How many days an event takes; its end, where it is a date, is the day after the last."""
    if "DTEND" not in event:
        if "DURATION" in event:
            return max(1, int(event["DURATION"].dt.days))
        return 1
    end = event["DTEND"].dt
    days = (_day(end) - first).days
    if isinstance(end, datetime) and end.time() != time():
        days += 1
    if days < 0:
        raise _BadEvent("DTEND", end, "is before DTSTART")
    if days > LONGEST_DAYS:
        raise _BadEvent("DTEND", end, f"makes an event of more than {LONGEST_DAYS} days")
    return max(1, days)


def _starts(event: Any, first: date, from_: date, to: date) -> Iterator[date]:
    if "RRULE" not in event:
        yield first
        return
    text = event["RRULE"].to_ical().decode()
    try:
        rule = rrulestr(text, dtstart=datetime.combine(first, time()), ignoretz=True)
        until = datetime.combine(to, time())
        for i, start in enumerate(rule.xafter(datetime.combine(from_, time()), inc=True)):
            if start > until:
                return
            if i >= MOST_DATES:
                raise _BadEvent("RRULE", text, f"gives more than {MOST_DATES} dates")
            yield start.date()
    except _BadEvent:
        raise
    except (ValueError, TypeError, KeyError) as error:
        raise _BadEvent("RRULE", text, f"is no recurrence rule: {error}") from None


def _dates(event: Any, from_: date, to: date) -> Iterator[date]:
    if "DTSTART" not in event:
        raise _BadEvent("DTSTART", "", "is missing: when is it?")
    start = getattr(event["DTSTART"], "dt", None)
    if not isinstance(start, date):
        raise _BadEvent("DTSTART", event["DTSTART"], "is no date")
    first = _day(start)
    days = _length(event, first)
    listed = event.get("EXDATE", [])
    left_out = {
        _day(entry.dt)
        for group in (listed if isinstance(listed, list) else [listed])
        for entry in group.dts
    }
    for begins in _starts(event, first, from_ - timedelta(days=days), to):
        if begins in left_out:
            continue
        for i in range(days):
            day = begins + timedelta(days=i)
            if from_ <= day <= to:
                yield day


def _listed(event: Any, from_: date, to: date) -> list[date]:
    """The dates of an event. Raises _BadEvent, whatever the event's properties turn out to be."""
    try:
        return list(_dates(event, from_, to))
    except (AttributeError, TypeError, OverflowError) as error:
        # A property that the parser left as text has none of the attributes of a date.
        raise _BadEvent("DTSTART", event.get("DTSTART", ""), f"cannot be read: {error}") from None


def read_holidays(data: bytes, from_: date, to: date) -> Holidays:
    """The days on which a file has events, from one date to another, both included.

    Raises:
        ValueError: where it is no iCalendar file, or more than can be read.
    """
    if len(data) > MOST_BYTES:
        raise ValueError(f"is larger than {MOST_BYTES // 2**20} MiB")
    try:
        calendars = Calendar.from_ical(data, multiple=True)
        events = [event for calendar in calendars for event in calendar.walk("VEVENT")]
    except (ValueError, IndexError, KeyError, UnicodeDecodeError) as error:
        raise ValueError(f"is no iCalendar file: {error}") from None
    if not any(calendar.name == "VCALENDAR" for calendar in calendars):
        raise ValueError("is no iCalendar file: it has no BEGIN:VCALENDAR")
    if len(events) > MOST_EVENTS:
        raise ValueError(f"has more than {MOST_EVENTS} events")
    found: dict[date, str] = {}
    problems = []
    for number, event in enumerate(events, 1):
        name = str(event.get("SUMMARY", "")).strip()[:200] or f"event {number}"
        broken = [(prop, reason) for prop, reason in event.errors if prop]
        try:
            if broken:
                raise _BadEvent(broken[0][0], "", f"cannot be read: {broken[0][1]}")
            for prop in ("DTSTART", "DTEND", "DURATION", "RRULE"):
                if isinstance(event.get(prop), list):
                    raise _BadEvent(prop, "", "stands more than once")
            for day in _listed(event, from_, to):
                found.setdefault(day, name)
                if len(found) > MOST_DATES:
                    raise ValueError(f"has more than {MOST_DATES} dates")
        except _BadEvent as error:
            problems.append(IcsProblem(name, *error.problem))
    return Holidays(tuple(sorted(found.items())), tuple(problems))
