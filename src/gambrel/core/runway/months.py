"""Months of a site: what a look ahead is divided into."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import datetime, timedelta
from zoneinfo import ZoneInfo


@dataclass(frozen=True, slots=True)
class Month:
    """A calendar month, or the part of one that a horizon has; UTC seconds.

    Attributes:
        name: "2027-03".
    """

    name: str
    start: float
    end: float


def months_between(from_: float, to: float, zone: str) -> list[Month]:
    """The months of [from_, to) in a zone, the first and the last cut to it."""
    place = ZoneInfo(zone)
    found = []
    day = datetime.fromtimestamp(from_, place).replace(day=1, hour=0, minute=0, second=0)
    day = day.replace(microsecond=0)
    while day.timestamp() < to:
        following = (day + timedelta(days=32)).replace(day=1)
        found.append(
            Month(f"{day:%Y-%m}", max(from_, day.timestamp()), min(to, following.timestamp()))
        )
        day = following
    return found


def after_months(from_: float, count: int, zone: str) -> float:
    """The same local time a number of months later; the last day of a shorter month."""
    place = ZoneInfo(zone)
    at = datetime.fromtimestamp(from_, place)
    number = at.year * 12 + at.month - 1 + count
    for day in (at.day, 30, 29, 28):
        try:
            return at.replace(year=number // 12, month=number % 12 + 1, day=day).timestamp()
        except ValueError:
            continue
    raise AssertionError("every month has 28 days")
