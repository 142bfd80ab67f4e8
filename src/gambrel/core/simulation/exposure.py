"""How much work would be lost: exposure of machines over time (section 9)."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from typing import NamedTuple

from gambrel.core.plan.objects import Machine
from gambrel.core.simulation.forecast import Exposure, Forecast, NewestPoint, NewestPoints
from gambrel.core.units import HOUR, SAME_INSTANT


def newest_over_time(made: Iterable[NewestPoint]) -> tuple[NewestPoint, ...]:
    """Of the usable points of a machine, those that were the newest when they came to exist."""
    result: list[NewestPoint] = []
    for point in sorted(made, key=lambda p: (p.exists_from, p.at)):
        if not result or point.at > result[-1].at:
            result.append(point)
    return tuple(result)


class WorstMoment(NamedTuple):
    """When most would be lost: at `at`, all work since `since`, the start of the newest point."""

    seconds: float
    at: float
    since: float


def worst_moment(newest: Sequence[NewestPoint], from_: float, to: float) -> WorstMoment | None:
    """The largest exposure over [from_, to], with its moment; None with no point at all.

    Measured from the first point that exists, or from `from_` if one existed before; the value
    just before a newer point exists counts.
    """
    seen = [point for point in newest if point.exists_from <= to + SAME_INSTANT]
    if not seen:
        return None
    worst = WorstMoment(0.0, from_, from_)
    for point, following in zip(seen, [*seen[1:], None], strict=True):
        end = to if following is None else following.exists_from
        if end >= from_ - SAME_INSTANT and end - point.at > worst.seconds:
            worst = WorstMoment(end - point.at, end, point.at)
    return worst


def worst_exposure(newest: Sequence[NewestPoint], from_: float, to: float) -> float | None:
    """The largest exposure over [from_, to] in seconds; None with no point at all."""
    worst = worst_moment(newest, from_, to)
    return None if worst is None else worst.seconds


def rpo_met(machine: Machine, worst: float | None) -> bool | None:
    """Whether a worst exposure in seconds is within the RPO; None where none is set."""
    if machine.rpo_hours is None:
        return None
    return worst is not None and worst <= machine.rpo_hours * HOUR + SAME_INSTANT


def exposures(forecast: Forecast, start: float, end: float) -> tuple[Exposure, ...]:
    """The worst exposure of each machine over [start, end], a span of a forecast."""
    newest = forecast.newest_points
    machines = forecast.plan.machines
    if isinstance(newest, NewestPoints):
        worst = newest.worst_between(start, end)
    else:
        worst = [worst_exposure(newest[machine.id], start, end) for machine in machines]
    return tuple(
        Exposure(machine.id, seconds, rpo_met(machine, seconds))
        for machine, seconds in zip(machines, worst, strict=True)
    )


def machine_exposure(
    machine: Machine, newest: Sequence[NewestPoint], from_: float, to: float
) -> Exposure:
    """The worst exposure of a machine and whether its RPO is met."""
    worst = worst_exposure(newest, from_, to)
    return Exposure(machine.id, worst, rpo_met(machine, worst))
