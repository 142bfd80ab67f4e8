"""What a link carries when: its own rate, less where a limit is in force (section 5)."""

from __future__ import annotations

from functools import lru_cache
from math import inf
from zoneinfo import ZoneInfo

from gambrel.core.plan.objects import Link, LinkLimit
from gambrel.core.schedules.calendars import limit_intervals
from gambrel.core.units import SAME_INSTANT


@lru_cache(maxsize=256)
def capacity_steps(
    link: Link, zone: str, from_: float, to: float
) -> tuple[tuple[float, float], ...]:
    """(instant, Mbit/s from then on) of a link, the first at `from_`.

    Args:
        zone: of the site where the link begins; its limits are in wall-clock time there.
    """
    steps: list[tuple[float, float]] = []
    for at, limit in _limit_steps(link.limits, zone, from_, to):
        rate = link.carried(min(link.mbit_per_s, limit))
        if not steps or rate != steps[-1][1]:
            steps.append((at, rate))
    return tuple(steps)


@lru_cache(maxsize=256)
def _limit_steps(
    limits: tuple[LinkLimit, ...], zone: str, from_: float, to: float
) -> tuple[tuple[float, float], ...]:
    """(instant, the lowest limit in force from then on, infinite where there is none).

    Kept apart from what a link carries, which varies from draw to draw where its limits do not.
    """
    place = ZoneInfo(zone)
    intervals = [
        (begins, ends, limit.mbit_per_s)
        for limit in limits
        for begins, ends in limit_intervals(limit, place, from_, to)
        if ends > from_ + SAME_INSTANT
    ]
    edges = {from_, *(edge for begins, ends, _ in intervals for edge in (begins, ends))}
    steps: list[tuple[float, float]] = []
    for edge in sorted(edges):
        in_force = [
            rate
            for begins, ends, rate in intervals
            if begins <= edge + SAME_INSTANT and ends > edge + SAME_INSTANT
        ]
        lowest = min([inf, *in_force])
        if edge <= from_ + SAME_INSTANT:
            steps = [(from_, lowest)]
        else:
            steps.append((edge, lowest))
    return tuple(steps)
