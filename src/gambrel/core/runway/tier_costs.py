"""What lies in which tier of a repository over time, and what it costs at stated prices."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import NamedTuple

import numpy as np

from gambrel.core.model.tiers import tier_ages
from gambrel.core.plan.objects import Plan, Repository
from gambrel.core.runway.months import Month
from gambrel.core.runway.projection import Projection
from gambrel.core.simulation.engine import tables as t
from gambrel.core.units import DAY, TIB

MONTH_S = 365 / 12 * DAY
"""A month of a price."""


@dataclass(frozen=True, slots=True)
class TierMonth:
    """A tier in a month.

    Attributes:
        bytes: what lies there on the average of the month.
        paid_bytes: what is paid for on the average: points that left sooner than the tier's
            minimum stay are in it.
        cost: None where no price is stated.
    """

    month: str
    bytes: float
    paid_bytes: float
    cost: float | None


@dataclass(frozen=True, slots=True)
class TierAhead:
    """A tier of a repository; "" is the place in which points lie at first.

    Attributes:
        after_days: age at which points come there; 0 for the first place.
    """

    tier: str
    after_days: float
    minimum_days: float
    price_per_tib_month: float | None
    months: tuple[TierMonth, ...]


class Held(NamedTuple):
    """What of a repository is immutable at an instant; `until`: the last of it; None: nothing."""

    bytes: float
    until: float | None


def held_now(plan: Plan, repository: Repository, now: float) -> Held:
    """What of the points that a plan's state has in a repository cannot be freed yet."""
    span = repository.immutable_days * DAY
    points = [
        point
        for point in plan.state.points
        if point.repository == repository.id and now - point.at < span
    ]
    last = max((point.at for point in points), default=None)
    return Held(sum(p.stored_bytes for p in points), None if last is None else last + span)


def tiers_ahead(
    projection: Projection, repository: int, months: Sequence[Month]
) -> tuple[TierAhead, ...]:
    """Each tier of a repository month by month; the projection must have kept its points."""
    plan = projection.plan
    target = plan.repositories[repository]
    rows = projection.rows_of(repository)
    rows = rows[rows["gone"] > rows["since"]]
    enters, leaves = _stays(projection, target, rows)
    found = []
    places: list[tuple[str, float, float, float | None]] = [
        ("", 0.0, 0.0, target.price_per_tib_month)
    ]
    places += [
        (tier.id, tier.after_days, tier.minimum_days, tier.price_per_tib_month)
        for tier in target.tiers
    ]
    for i, (name, after, minimum, price) in enumerate(places):
        begin, end = enters[i], leaves[i]
        stays = end > begin
        paid_until = np.maximum(end, np.where(stays, begin + minimum * DAY, end))
        told = []
        for month in months:
            there = _average(rows["stored_bytes"], begin, end, month)
            paid = _average(rows["stored_bytes"], begin, paid_until, month)
            length = (month.end - month.start) / MONTH_S
            cost = None if price is None else paid / TIB * price * length
            told.append(TierMonth(month.name, there, paid, cost))
        found.append(TierAhead(name, after, minimum, price, tuple(told)))
    return tuple(found)


def _stays(
    projection: Projection, repository: Repository, rows: t.Table
) -> tuple[list[t.Floats], list[t.Floats]]:
    """When each point comes to each place, and when it leaves it; never there: both the same."""
    ages = np.array([tier_ages(repository, job) for job in projection.plan.jobs])
    ages = ages.reshape(len(projection.plan.jobs), -1)
    begins = [rows["since"]]
    for i in range(ages.shape[1]):
        begins.append(np.maximum(rows["since"], rows["at"] + ages[rows["job"], i]))
    enters, leaves = [], []
    for i, begin in enumerate(begins):
        end = np.minimum(rows["gone"], begins[i + 1] if i + 1 < len(begins) else np.inf)
        enters.append(np.minimum(begin, rows["gone"]))
        leaves.append(np.maximum(end, enters[-1]))
    return enters, leaves


def _average(sizes: t.Floats, begin: t.Floats, end: t.Floats, month: Month) -> float:
    inside = np.minimum(end, month.end) - np.maximum(begin, month.start)
    return float((sizes * np.maximum(0.0, inside)).sum() / (month.end - month.start))
