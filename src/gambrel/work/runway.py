"""Looks months ahead: what is asked, and the projections that are kept for the next question."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass, replace
from datetime import date, timedelta
from typing import NamedTuple

import numpy as np

from gambrel.core.caches import MIB, ByteCache
from gambrel.core.edits.item_edits import OperationError
from gambrel.core.edits.operations import Operation, apply_all
from gambrel.core.nights.nights import Verdict, night_outcome
from gambrel.core.plan.objects import Plan
from gambrel.core.runway.expecting import AssumptionError, Expected, expected
from gambrel.core.runway.keeping_below import Below, keep_below
from gambrel.core.runway.months import Month, after_months, months_between
from gambrel.core.runway.nights_ahead import Stage, stages
from gambrel.core.runway.occupancy import READ_DAYS, Grouping, Occupancy, occupancy
from gambrel.core.runway.projection import MOST_MONTHS, Projection, project
from gambrel.core.runway.purchase import Item, space_to_buy
from gambrel.core.simulation.exposure import exposures
from gambrel.core.units import DAY
from gambrel.work.forecaster import Forecaster

MOST_BYTES = 160 * MIB
"""What projections may take."""
USUAL_MONTHS = 24


@dataclass(frozen=True, slots=True)
class Ahead:
    """How a look ahead is meant.

    Attributes:
        months: how far, from 1 to 36.
        feared_growth: the least by which every machine grows in a year; None: as is known.
        provisioned_grows: whether disks may grow beyond what is provisioned for them today.
    """

    months: int = USUAL_MONTHS
    feared_growth: float | None = None
    provisioned_grows: bool = True


class _Kept(NamedTuple):
    """A projection with the plan that it is of, held so that no other can stand in its place."""

    plan: Plan
    expected: Expected
    projection: Projection

    def nbytes(self) -> int:
        # What is asked of a projection is kept with it: curves as large as what they are made of.
        return 2 * self.projection.nbytes() + 2000


_projections: ByteCache[_Kept] = ByteCache("projections over months", MOST_BYTES, _Kept.nbytes)


def end_of(forecaster: Forecaster, ahead: Ahead) -> float:
    """The instant up to which a look ahead reaches."""
    origin = forecaster.origin
    return after_months(origin.start, ahead.months, origin.zone)


def months_of(forecaster: Forecaster, ahead: Ahead) -> list[Month]:
    """The months that it looks at."""
    origin = forecaster.origin
    return months_between(origin.start, end_of(forecaster, ahead), origin.zone)


def projected(
    forecaster: Forecaster, ahead: Ahead, keep_points_of: Iterable[int] = ()
) -> tuple[Expected, Projection]:
    """A plan over the months ahead.

    Raises:
        OperationError: where an assumption cannot be made.
    """
    keep = tuple(keep_points_of)
    known = None
    if forecaster.base is not None:
        kept = _projections.get(_key(forecaster.base.plan, forecaster, ahead, keep))
        known = None if kept is None else kept.projection
    return _projected(forecaster.plan, forecaster, ahead, keep, known)


def _key(
    plan: Plan, forecaster: Forecaster, ahead: Ahead, keep: tuple[int, ...]
) -> tuple[object, ...]:
    return id(plan), forecaster.origin.start, ahead, keep


def _projected(
    plan: Plan,
    forecaster: Forecaster,
    ahead: Ahead,
    keep: tuple[int, ...],
    known: Projection | None,
    *,
    passing: bool = False,
) -> tuple[Expected, Projection]:
    def make() -> _Kept:
        told = _expected(plan, ahead)
        made = project(
            told.plan,
            forecaster.origin.start,
            end_of(forecaster, ahead),
            lifetimes=told.lifetimes,
            provisioned_grows=ahead.provisioned_grows,
            keep_points_of=keep,
            known=known,
        )
        return _Kept(plan, told, made)

    kept = make() if passing else _projections.once(_key(plan, forecaster, ahead, keep), make)
    return kept.expected, kept.projection


def _expected(plan: Plan, ahead: Ahead) -> Expected:
    try:
        return expected(plan, feared_growth=ahead.feared_growth)
    except AssumptionError as error:
        raise OperationError("assumptions", error.assumption, error.reason) from None


def below(forecaster: Forecaster, ahead: Ahead, repository: str, part: float) -> Below:
    """What would keep a repository below a part of its space up to the end of a look ahead."""
    _, now = projected(forecaster, ahead)

    def projecting(plan: Plan) -> Projection:
        if plan is forecaster.plan:
            return now
        return _projected(plan, forecaster, ahead, (), now, passing=True)[1]

    return keep_below(forecaster.plan, repository, part, end_of(forecaster, ahead), projecting)


class WeekEffect(NamedTuple):
    """What operations do to the second week, in which they are in force.

    Attributes:
        nights: (date, before, after) of those whose verdict changes.
        rpo_missed: machines whose exposure passes their RPO in that week: before, after.
    """

    nights: tuple[tuple[date, Verdict, Verdict], ...]
    rpo_missed: tuple[int, int]


def effect_on_the_second_week(
    forecaster: Forecaster, operations: Sequence[Operation]
) -> WeekEffect:
    """What operations do to nights and exposures, simulated."""
    changed = Forecaster(
        apply_all(forecaster.plan, operations), forecaster.origin, forecaster, passing=True
    )
    day = forecaster.origin.date + timedelta(days=7)
    was, now = forecaster.week(day), changed.week(day)
    turned = []
    for night in now.nights:
        before, after = (night_outcome(w.forecast, night).verdict for w in (was, now))
        if before != after:
            turned.append((night.date, before, after))
    missed = [
        sum(e.rpo_met is False for e in exposures(w.forecast, w.start, w.end)) for w in (was, now)
    ]
    return WeekEffect(tuple(turned), (missed[0], missed[1]))


def occupied(
    forecaster: Forecaster,
    ahead: Ahead,
    at: float,
    by: Grouping,
    read_before: Callable[[float, float], Mapping[tuple[str, str], float]],
) -> Occupancy:
    """Who takes how much at an instant of a look ahead.

    Args:
        read_before: what was read between two instants before the look begins, by (job, machine).
    """
    origin = forecaster.origin.start
    since = at - READ_DAYS * DAY
    told = _expected(forecaster.plan, ahead)
    samples = np.array(sorted({origin, max(origin, since), at, at + 1.0}))
    made = project(
        told.plan, origin, at + 1.0, samples=samples, lifetimes=told.lifetimes,
        provisioned_grows=ahead.provisioned_grows,
        keep_points_of=[i for i, r in enumerate(told.plan.repositories) if r.tiers],
    )  # fmt: skip
    before = read_before(since, origin) if since < origin else {}
    return occupancy(made, at, by, read_before=before)


class NightsAhead(NamedTuple):
    """All that the nights of the months ahead depend on: it can be sent to another process."""

    plan: Plan
    from_: float
    zone: str
    months: tuple[Month, ...]
    ahead: Ahead

    def stages(self, first: int = 0, end: int | None = None) -> Iterator[Stage]:
        """Its months from one number up to another, each ready to be simulated."""
        told = _expected(self.plan, self.ahead)
        chosen = self.months[first:end]
        return stages(told, self.from_, chosen, self.zone, grows=self.ahead.provisioned_grows)


def nights_ahead(forecaster: Forecaster, ahead: Ahead) -> NightsAhead:
    """The question about the nights of a look ahead; a last month of a few nights is left out."""
    if not 1 <= ahead.months <= MOST_MONTHS:
        raise OperationError("months", ahead.months, f"is not between 1 and {MOST_MONTHS}")
    _expected(forecaster.plan, ahead)
    origin = forecaster.origin
    months = months_of(forecaster, ahead)
    last = months[-1]
    return NightsAhead(
        replace(forecaster.plan), origin.start, origin.zone,
        tuple(months[:-1] if len(months) > 1 and last.end - last.start < 7 * DAY else months),
        ahead,
    )  # fmt: skip


def space_needed(asked: NightsAhead, reserve: float) -> tuple[Item, ...]:
    """The space to buy for the months of a question, with a part that stays free."""
    told = _expected(asked.plan, asked.ahead)
    made = project(
        told.plan, asked.from_, asked.months[-1].end, lifetimes=told.lifetimes,
        provisioned_grows=asked.ahead.provisioned_grows,
    )  # fmt: skip
    return space_to_buy(made, reserve)
