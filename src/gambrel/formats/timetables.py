"""Timetables of elsewhere: crontab lines (crontab(5)) and calendars (RFC 5545) as schedules.

What cannot be said as a schedule of a plan is named with its line, and left out.
"""

from __future__ import annotations

import itertools
import re
from collections.abc import Iterator, Sequence
from dataclasses import dataclass, replace
from datetime import UTC, date, datetime, time
from pathlib import PurePosixPath
from typing import Any
from zoneinfo import ZoneInfo

from icalendar import Calendar

from gambrel.core.plan.objects import DayRowSchedule, RuleSchedule, Schedule
from gambrel.core.plan.recurrence_rules import parse_rule
from gambrel.core.schedules.words import CODES

MOST_ENTRIES = 500
MOST_TIMES = 24
"""Times of one day that one line may name, unless they are evenly apart."""
NICKNAMES = {
    "@yearly": "0 0 1 1 *", "@annually": "0 0 1 1 *", "@monthly": "0 0 1 * *",
    "@weekly": "0 0 * * 0", "@daily": "0 0 * * *", "@midnight": "0 0 * * *",
    "@hourly": "0 * * * *",
}  # fmt: skip
_MONTHS = ("jan", "feb", "mar", "apr", "may", "jun", "jul", "aug", "sep", "oct", "nov", "dec")
_DAYS = ("sun", "mon", "tue", "wed", "thu", "fri", "sat")
_ZONE = re.compile(r"^\s*(?:CRON_TZ|TZ)\s*=\s*\"?([^\"\s]+)\"?\s*$")
_VARIABLE = re.compile(r"^\s*[A-Za-z_]\w*\s*=")
_FULL = re.compile(r"\bfull\b|level[ =]?0\b|_full\b|-full\b", re.IGNORECASE)
_SHELLS = frozenset({"sh", "bash", "dash", "nice", "ionice", "flock", "env", "sudo", "timeout",
                     "test", "root", "exec", "systemd-cat", "chronic"})  # fmt: skip


class _NotSaid(ValueError):
    """What a line says and no schedule does: the value, and why."""

    def __init__(self, value: str, reason: str) -> None:
        self.value, self.reason = value, reason
        super().__init__(f"{value}: {reason}")


@dataclass(frozen=True, slots=True)
class Start:
    """Something that is started by a timetable.

    Attributes:
        line: of the file, from 1; of a calendar the number of the event.
        text: the line, or the title of the event.
        name: what a job of it could be called.
        schedules: when it starts; the kind of run is guessed from its words.
        hint: words in which a machine may be named.
    """

    line: int
    text: str
    name: str
    schedules: tuple[Schedule, ...]
    hint: str

    def of_kind(self, kind: str) -> Start:
        """The same, as runs of this kind."""
        return replace(self, schedules=tuple(replace(s, kind=kind) for s in self.schedules))  # type: ignore[arg-type]


@dataclass(frozen=True, slots=True)
class TimetableProblem:
    line: int
    value: str
    reason: str


@dataclass(frozen=True, slots=True)
class Timetable:
    """What a file says, and what of it could not be read."""

    starts: tuple[Start, ...]
    problems: tuple[TimetableProblem, ...]
    with_user: bool = False


def kind_of(words: str) -> str:
    """The kind of run that words let one expect."""
    return "full" if _FULL.search(words) else "incremental"


# --- crontabs -------------------------------------------------------------------------------------


def _number(text: str, names: Sequence[str], first: int) -> int:
    if text.lower() in names:
        return names.index(text.lower()) + first
    if not text.isdigit():
        raise _NotSaid(text, "is no number or name that cron knows here")
    return int(text)


def _field(text: str, low: int, high: int, names: Sequence[str] = (), first: int = 0) -> list[int]:
    """The values of a field of a crontab, in order. Raises _NotSaid."""
    found: set[int] = set()
    for part in text.split(","):
        span, _, step_text = part.partition("/")
        step = 1
        if step_text:
            step = _number(step_text, (), 0)
            if step < 1:
                raise _NotSaid(part, "steps by nothing")
        if span == "*":
            begin, end = low, high
        else:
            begin_text, dash, end_text = span.partition("-")
            begin = _number(begin_text, names, first)
            end = _number(end_text, names, first) if dash else (high if step_text else begin)
        if not low <= begin <= end <= high:
            raise _NotSaid(part, f"is not between {low} and {high}")
        found.update(range(begin, end + 1, step))
    return sorted(found)


def _step(values: Sequence[int]) -> int | None:
    """How far apart values are, where they are evenly so."""
    steps = {b - a for a, b in itertools.pairwise(values)}
    return steps.pop() if len(steps) == 1 else None


def _row(minutes: Sequence[int], hours: Sequence[int]) -> tuple[int, time, time] | None:
    """Times of a day that are evenly apart: every so many minutes, from, to."""
    times = [60 * hour + minute for hour in hours for minute in minutes]
    every = _step(times)
    if every is None or len(times) < 3:
        return None
    first, last = times[0], times[-1]
    return every, time(first // 60, first % 60), time(last // 60, last % 60)


def _schedules(fields: Sequence[str], kind: str, day: date, zone: str) -> Iterator[Schedule]:
    minutes = _field(fields[0], 0, 59)
    hours = _field(fields[1], 0, 23)
    month_days = _field(fields[2], 1, 31)
    months = _field(fields[3], 1, 12, _MONTHS, 1)
    week_days = sorted({value % 7 for value in _field(fields[4], 0, 7, _DAYS)})
    by_month = f";BYMONTH={','.join(map(str, months))}" if len(months) < 12 else ""
    codes = [CODES[(value - 1) % 7] for value in week_days]
    weekly = f"FREQ=WEEKLY;BYDAY={','.join(codes)}{by_month}"
    monthly = f"FREQ=MONTHLY;BYMONTHDAY={','.join(map(str, month_days))}{by_month}"
    any_month_day, any_week_day = fields[2].startswith("*"), fields[4].startswith("*")
    if any_month_day or any_week_day:
        # A field that begins with a star binds as well where it has a step.
        rules = [weekly if len(week_days) < 7 or by_month else "FREQ=DAILY"]
        if len(month_days) < 31:
            if len(week_days) < 7:
                raise _NotSaid(" ".join(fields), "binds days of the month and of the week at once")
            rules = [monthly]
    else:
        # crontab(5): where both are given, either of them is enough.
        rules = [weekly, monthly]
    row = _row(minutes, hours)
    if row and rules == [weekly if len(week_days) < 7 else "FREQ=DAILY"] and not by_month:
        every, begin, end = row
        days = tuple(sorted((value - 1) % 7 for value in week_days))
        yield DayRowSchedule(kind, every, begin, end, days, day, zone)  # type: ignore[arg-type]
        return
    if len(minutes) * len(hours) > MOST_TIMES:
        raise _NotSaid(" ".join(fields[:2]), f"names more than {MOST_TIMES} times of a day")
    for rule in rules:
        for minute in minutes:
            by_hour = f";BYHOUR={','.join(map(str, hours))}" if len(hours) > 1 else ""
            start = datetime.combine(day, time(hours[0], minute))
            said = f"{rule}{by_hour}"
            parse_rule(said, start)
            yield RuleSchedule(kind, said, start, zone)  # type: ignore[arg-type]


def _name_of(command: str) -> str:
    """What a command is called: the first of its programs that is no shell or wrapper."""
    for word in command.split():
        name = PurePosixPath(word.strip("'\"")).name
        if name and name[0].isalpha() and "=" not in name and name not in _SHELLS:
            return re.sub(r"\.(sh|py|pl)$", "", name)
    return "script"


def read_crontab(text: str, *, day: date, zone: str, with_user: bool | None = None) -> Timetable:
    """The lines of a crontab.

    Args:
        day: the first date on which a schedule may be due.
        zone: of times, unless a line CRON_TZ= or TZ= says another.
        with_user: whether a user stands before the command, as in /etc/crontab; None: it is seen
            from whether all lines have one of the usual there.
    """
    lines = text.splitlines()
    if with_user is None:
        with_user = _has_users(lines)
    starts: list[Start] = []
    problems: list[TimetableProblem] = []
    for number, line in enumerate(lines, start=1):
        said = line.strip()
        named = _ZONE.match(said)
        if named:
            try:
                ZoneInfo(named[1])
                zone = named[1]
            except (KeyError, ValueError, OSError):
                problems.append(TimetableProblem(number, named[1], "is no IANA time zone"))
            continue
        if _says_nothing(said):
            continue
        if len(starts) >= MOST_ENTRIES:
            problems.append(TimetableProblem(number, said, f"comes after {MOST_ENTRIES} others"))
            break
        try:
            starts.append(_start(number, said, day, zone, with_user=with_user))
        except _NotSaid as error:
            problems.append(TimetableProblem(number, error.value, error.reason))
        except ValueError as error:
            problems.append(TimetableProblem(number, said, str(error)))
    return Timetable(tuple(starts), tuple(problems), with_user)


def _says_nothing(said: str) -> bool:
    """Whether a line is empty, a comment or a variable."""
    return not said or said.startswith("#") or _VARIABLE.match(said) is not None


def _has_users(lines: Sequence[str]) -> bool:
    users = []
    for line in lines:
        said = line.strip()
        if _says_nothing(said):
            continue
        words = said.split()
        at = 1 if said.startswith("@") else 5
        if len(words) <= at + 1:
            return False
        users.append(words[at])
    return bool(users) and all(re.fullmatch(r"[a-z_][a-z0-9_-]*", user) for user in users) and (
        "root" in users or len(set(users)) == 1
    )  # fmt: skip


def _start(number: int, said: str, day: date, zone: str, *, with_user: bool) -> Start:
    words = said.split(None, 5)
    if said.startswith("@"):
        nickname, _, rest = said.partition(" ")
        if nickname.lower() not in NICKNAMES:
            raise _NotSaid(nickname, "is no time of a day")
        words = [*NICKNAMES[nickname.lower()].split(), rest.strip()]
    if len(words) < 6:
        raise _NotSaid(said, "has no command after five fields of time")
    command = words[5].split(None, 1)[-1] if with_user else words[5]
    # crontab(5): what stands after a percent sign is input of the command.
    command = re.split(r"(?<!\\)%", command, maxsplit=1)[0].strip()
    schedules = tuple(_schedules(words[:5], kind_of(command), day, zone))
    return Start(number, said, _name_of(command), schedules, command)


# --- calendars ------------------------------------------------------------------------------------


def read_calendar(content: bytes, *, day: date, zone: str) -> Timetable:
    """The events of a calendar that have a time of day.

    Args:
        day: single events before it are left out.
        zone: of times that name none.

    Raises:
        ValueError: for what is no calendar.
    """
    calendar = Calendar.from_ical(content)
    starts: list[Start] = []
    problems: list[TimetableProblem] = []
    for number, event in enumerate(calendar.walk("VEVENT"), start=1):
        title = str(event.get("SUMMARY", "")).strip() or f"event {number}"
        if len(starts) >= MOST_ENTRIES:
            problems.append(TimetableProblem(number, title, f"comes after {MOST_ENTRIES} others"))
            break
        hint = " ".join(str(event.get(key, "")) for key in ("SUMMARY", "LOCATION", "DESCRIPTION"))
        try:
            schedule = _of_event(event, kind_of(hint), day, zone)
            starts.append(Start(number, title, title[:190], (schedule,), hint))
        except _NotSaid as error:
            problems.append(TimetableProblem(number, title, f"{error.value} {error.reason}"))
        except (ValueError, AttributeError, TypeError, KeyError) as error:
            problems.append(TimetableProblem(number, title, f"cannot be read: {error}"))
    return Timetable(tuple(starts), tuple(problems))


def _of_event(event: Any, kind: str, day: date, zone: str) -> RuleSchedule:
    if "RECURRENCE-ID" in event:
        raise _NotSaid("RECURRENCE-ID", "changes one date of another event, which is left out")
    start = getattr(event.get("DTSTART"), "dt", None)
    if not isinstance(start, datetime):
        raise _NotSaid("DTSTART", "has no time of day")
    start, zone = _local(start, zone)
    skips = tuple(sorted({_local(at, zone)[0].date() for at in _instants(event, "EXDATE")}))
    extra = tuple(sorted(_local(at, zone)[0] for at in _instants(event, "RDATE")))
    if "RRULE" not in event:
        if start.date() < day and not extra:
            raise _NotSaid(f"{start:%Y-%m-%d}", "is over")
        rule, until = "FREQ=DAILY;COUNT=1", None
    else:
        rule, until = _rule(event["RRULE"].to_ical().decode(), zone)
    parse_rule(rule, start)
    return RuleSchedule(
        kind, rule, start, zone, skip_dates=skips, extra=extra, until=until  # type: ignore[arg-type]
    )  # fmt: skip


def _local(at: datetime, zone: str) -> tuple[datetime, str]:
    """A time without a zone, and the zone that it is in."""
    if at.tzinfo is None:
        return at, zone
    key = getattr(at.tzinfo, "key", None)
    if key and key != "UTC":
        return at.replace(tzinfo=None), key
    return at.astimezone(ZoneInfo(zone)).replace(tzinfo=None), zone


def _instants(event: Any, name: str) -> Iterator[datetime]:
    listed = event.get(name, [])
    for group in listed if isinstance(listed, list) else [listed]:
        for each in group.dts:
            yield each.dt if isinstance(each.dt, datetime) else datetime.combine(each.dt, time())


def _rule(text: str, zone: str) -> tuple[str, date | None]:
    """A rule without its end, and the last date."""
    until = None
    parts = []
    for part in text.split(";"):
        name, _, value = part.partition("=")
        if name == "UNTIL":
            at = datetime.strptime(value[:8], "%Y%m%d").replace(tzinfo=UTC)
            if value.endswith("Z") and "T" in value:
                at = datetime.strptime(value, "%Y%m%dT%H%M%SZ").replace(tzinfo=UTC)
                at = at.astimezone(ZoneInfo(zone))
            until = at.date()
        else:
            parts.append(part)
    return ";".join(parts), until
