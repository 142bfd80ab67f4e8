"""When things may and should happen: windows, calendars, schedules."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from datetime import date, datetime, time
from typing import Annotated, ClassVar, Literal

from gambrel.core.plan.conditions import Rule
from gambrel.core.plan.kinds import CalendarId, Ident, Kind, Span, Weekday, Zone
from gambrel.core.plan.places import Wrong
from gambrel.core.plan.recurrence_rules import parse_rule
from gambrel.core.plan.shapes import Key, Rows


@dataclass(frozen=True, slots=True)
class OpenInterval:
    """Hours in which a window is open on some days of every week."""

    days: tuple[Weekday, ...]
    from_time: time
    to_time: time


@dataclass(frozen=True, slots=True)
class DateInterval:
    from_time: time
    to_time: time


@dataclass(frozen=True, slots=True)
class WindowException:
    """What is open on one date instead of the weekly intervals that begin on it."""

    date: date
    open: tuple[DateInterval, ...]


@dataclass(frozen=True, slots=True)
class Window:
    """Hours in which jobs may run.

    Attributes:
        default_for: rules as those of a selection. A job without a window of its own, of whose
            machines all match one of them, runs in this window.
    """

    id: Ident
    time_zone: Annotated[Zone, Key("Time zone")]
    open: Annotated[tuple[OpenInterval, ...], Key("Hours", form=False)]
    exceptions: Annotated[tuple[WindowException, ...], Key("Exceptions", form=False)] = ()
    default_for: Annotated[tuple[Rule, ...], Key("Default for", form=False)] = ()


@dataclass(frozen=True, slots=True)
class Calendar:
    id: Ident
    dates: Annotated[tuple[date, ...], Key("Dates", form=False)]


@dataclass(frozen=True, slots=True)
class RuleSchedule:
    """Occurrences by an RFC 5545 recurrence rule, from a local start."""

    kind: Kind
    rrule: Ident
    start: datetime
    time_zone: Zone
    skip: Annotated[tuple[CalendarId, ...], Rows(distinct=True)] = ()
    when_skipped: Literal["drop", "next_day"] = "drop"
    skip_dates: tuple[date, ...] = ()
    extra: tuple[datetime, ...] = ()
    until: date | None = None

    def problems(self) -> Wrong:
        """A rule that says nothing, or says it in a way that is refused."""
        try:
            parse_rule(self.rrule, self.start)
        except ValueError as error:
            yield "rrule", self.rrule, str(error)


@dataclass(frozen=True, slots=True)
class DayRowSchedule:
    """Many runs a day: every `every_min` minutes between two times on each of `days`."""

    told_by: ClassVar[str] = "every_min"
    foreign_keys: ClassVar[Mapping[str, str]] = {
        "rrule": "cannot go with every_min; a schedule has one of the two"
    }

    kind: Kind
    every_min: Span
    from_time: time
    to_time: time
    days: Annotated[tuple[Weekday, ...], Rows(distinct=True)]
    start: date
    time_zone: Zone
    skip: Annotated[tuple[CalendarId, ...], Rows(distinct=True)] = ()
    when_skipped: Literal["drop", "next_day"] = "drop"
    skip_dates: tuple[date, ...] = ()
    extra: tuple[datetime, ...] = ()
    until: date | None = None


Schedule = RuleSchedule | DayRowSchedule
