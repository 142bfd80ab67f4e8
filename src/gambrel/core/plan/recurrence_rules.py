"""Which recurrence rules a plan may hold: all that RFC 5545 gives a meaning and that soon yield.

A rule is followed date by date. One that never has a date, or steps by the minute, would be
followed for ever; so each part has a range here, and a rule without a date is refused where it is
read.
"""

from __future__ import annotations

import re
from dataclasses import dataclass
from datetime import UTC, datetime
from functools import lru_cache
from itertools import islice

from dateutil.rrule import rrule, rruleset, rrulestr

EARLIEST_YEAR, LATEST_YEAR = 1970, 2199
"""Years in which the dates of a plan lie."""
MOST_CHARACTERS = 500
"""Of a recurrence rule."""
MOST_INTERVAL = 1000
MOST_COUNT = 100_000

_UNTIL = re.compile(r"(?:^|;)UNTIL=([^;]*)", re.IGNORECASE)
_NUMBERED_DAY = r"[+-]?\d{0,2}(MO|TU|WE|TH|FR|SA|SU)"
_CLOCK = {"BYHOUR": (0, 23), "BYMINUTE": (0, 59), "BYSECOND": (0, 59)}
_EVERYWHERE = {"FREQ", "INTERVAL", "COUNT", "UNTIL", "WKST", "BYDAY"}
_PARTS = {
    "HOURLY": _EVERYWHERE,
    "DAILY": {*_EVERYWHERE, "BYMONTH", "BYMONTHDAY", *_CLOCK},
    "WEEKLY": {*_EVERYWHERE, "BYMONTH", "BYSETPOS", *_CLOCK},
    "MONTHLY": {*_EVERYWHERE, "BYMONTH", "BYMONTHDAY", "BYSETPOS", *_CLOCK},
    "YEARLY": {
        *_EVERYWHERE, "BYMONTH", "BYMONTHDAY", "BYYEARDAY", "BYWEEKNO", "BYSETPOS", *_CLOCK,
    },
}  # fmt: skip
"""The parts that a rule of each frequency may have (RFC 5545, 3.3.10)."""
_RANGES = {
    "BYMONTH": (1, 12), "BYMONTHDAY": (-31, 31), "BYYEARDAY": (-366, 366), "BYWEEKNO": (-53, 53),
    "BYSETPOS": (-366, 366), **_CLOCK,
}  # fmt: skip
_CALENDAR_REPEATS_YEARS = 400
_LAST_YEAR = 9999
_YEARS_SEARCHED = 45


@dataclass(frozen=True, slots=True)
class ParsedRule:
    """A recurrence rule and, where its UNTIL ends in Z, the instant after which nothing occurs."""

    rule: rrule | rruleset
    until_instant: float | None


@lru_cache(maxsize=4096)
def parse_rule(text: str, start: datetime) -> ParsedRule:
    """Read an RFC 5545 recurrence rule that starts at a local time.

    Raises:
        ValueError: with the reason, where the text is no rule that a plan may hold.
    """
    if not re.fullmatch(r"[A-Za-z]+=[^;=\s]+(;[A-Za-z]+=[^;=\s]+)*", text):
        raise ValueError("is not a recurrence rule like FREQ=WEEKLY;BYDAY=FR")
    names = [part.split("=", 1)[0].upper() for part in text.split(";")]
    if len(set(names)) != len(names):
        raise ValueError("gives a part of the rule twice")
    if "COUNT" in names and "UNTIL" in names:
        raise ValueError("may hold COUNT or UNTIL, not both (RFC 5545, 3.3.10)")
    until_instant: float | None = None
    until = _UNTIL.search(text)
    if until:
        value = until.group(1).upper()
        if "T" not in value:
            raise ValueError("holds a bare date after UNTIL; use the key `until` for a last date")
        if value.endswith("Z"):
            try:
                parsed = datetime.strptime(value, "%Y%m%dT%H%M%SZ").replace(tzinfo=UTC)
            except ValueError:
                raise ValueError(f"holds an UNTIL that is no date and time: {value}") from None
            until_instant = parsed.timestamp()
            text = _UNTIL.sub("", text).lstrip(";")
        elif not re.fullmatch(r"\d{8}T\d{6}", value):
            raise ValueError(f"holds an UNTIL that is no date and time: {value}")
    if len(text) > MOST_CHARACTERS:
        raise ValueError(f"is longer than {MOST_CHARACTERS} characters")
    check_rule(dict(part.upper().split("=", 1) for part in text.split(";")), start)
    try:
        return ParsedRule(rrulestr(text, dtstart=start), until_instant)
    except (ValueError, TypeError, KeyError, AttributeError) as error:
        raise ValueError(f"is not a recurrence rule: {error}") from None


def check_rule(parts: dict[str, str], start: datetime) -> None:
    """Check the parts of a rule, by name and in capitals.

    Raises:
        ValueError: with the reason.
    """
    frequency = parts.get("FREQ", "")
    if frequency in ("MINUTELY", "SECONDLY"):
        raise ValueError("runs by the minute; use `every_min` for many runs a day")
    if frequency not in _PARTS:
        raise ValueError("is not a recurrence rule: it needs FREQ, one of " + ", ".join(_PARTS))
    for name, value in parts.items():
        if name not in _PARTS[frequency]:
            raise ValueError(f"may not hold {name} beside FREQ={frequency} (RFC 5545, 3.3.10)")
        _check_part(name, value, frequency)
    if not _has_dates(parts, start):
        raise ValueError("has no date in forty years")


def _whole(name: str, value: str, least: int, most: int) -> None:
    if not re.fullmatch(r"[+-]?\d{1,6}", value, re.ASCII) or not least <= int(value) <= most:
        raise ValueError(f"holds {name}={value[:20]}, which is not between {least} and {most}")


def _check_part(name: str, value: str, frequency: str) -> None:
    if name == "INTERVAL":
        _whole(name, value, 1, MOST_INTERVAL)
    elif name == "COUNT":
        _whole(name, value, 1, MOST_COUNT)
    elif name in _RANGES:
        for item in value.split(","):
            _whole(name, item, *_RANGES[name])
            if int(item) == 0 and name not in _CLOCK:
                raise ValueError(f"holds {name}=0, which is no place")
    elif name == "BYDAY":
        for item in value.split(","):
            if not re.fullmatch(_NUMBERED_DAY, item):
                raise ValueError(f"holds BYDAY={item[:20]}, which is no day of the week")
            if item[:-2] and (frequency not in ("MONTHLY", "YEARLY") or int(item[:-2]) == 0):
                raise ValueError(f"may not number a weekday beside FREQ={frequency}")


def _has_dates(parts: dict[str, str], start: datetime) -> bool:
    """Whether a rule has any date in forty years.

    The calendar repeats every 400 years, weekdays and all. So the rule is followed as late as there
    are years for, where the search for a date that does not come ends soon.
    """
    kept = ";".join(f"{k}={v}" for k, v in parts.items() if k not in ("COUNT", "UNTIL"))
    room = _LAST_YEAR - _YEARS_SEARCHED - start.year
    late = start.replace(
        year=start.year + room // _CALENDAR_REPEATS_YEARS * _CALENDAR_REPEATS_YEARS
    )
    found = next(islice(rrulestr(kept, dtstart=late), 1), None)
    return found is not None and found.year <= late.year + 40
