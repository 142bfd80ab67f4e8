"""RPO and RTO of every machine, met or not, night by night (sections 9 and 10)."""

from __future__ import annotations

from typing import NamedTuple

from gambrel.core.model.paths import Routes
from gambrel.core.model.restore import Restore, chain_of, newest_way, rto_met
from gambrel.core.model.restore_points import PointRecord
from gambrel.core.nights.nights import Night
from gambrel.core.plan.objects import Plan
from gambrel.core.recovery.machine_points import way_back
from gambrel.core.simulation.exposure import exposures, worst_moment
from gambrel.core.simulation.forecast import Forecast
from gambrel.core.units import SAME_INSTANT


class Kept(NamedTuple):
    """Of a machine in a night.

    Attributes:
        exposure_s: the worst of the night; None with no point at all.
        restore_s: a full restore from the newest usable point as the night ends; None without one.
        worst_at, worst_since: where the RPO is broken, when most would be lost, and since when.
        limited_by: where the RTO is broken, what the restore waits for longest; its resource.
    """

    exposure_s: float | None
    rpo_met: bool | None
    restore_s: float | None
    rto_met: bool | None
    worst_at: float | None = None
    worst_since: float | None = None
    limited_by: str | None = None


def restores_at(plan: Plan, forecast: Forecast, instant: float) -> dict[str, float | None]:
    """Seconds of a full restore of each machine from its newest usable point just before then."""
    found = _newest_ways(plan, forecast, instant, Routes(plan))
    return {name: None if way is None else way[0].full_s for name, way in found.items()}


Ways = dict[str, tuple[Restore, PointRecord] | None]


def _newest_ways(plan: Plan, forecast: Forecast, instant: float, routes: Routes) -> Ways:
    points: dict[str, list[PointRecord]] = {}
    for point in forecast.history.at(instant - SAME_INSTANT):
        if point.usable:
            points.setdefault(point.machine, []).append(point)
    return {
        machine.id: newest_way(plan, machine, points.get(machine.id, ()), instant, routes)
        for machine in plan.machines
    }


def kept_in(plan: Plan, forecast: Forecast, night: Night) -> list[Kept]:
    """For each machine of the plan, in its order.

    Args:
        forecast: one of the plan that holds the night.
    """
    worst = {each.machine: each for each in exposures(forecast, night.start, night.end)}
    routes = Routes(plan)
    ways = _newest_ways(plan, forecast, night.end, routes)
    found = []
    for machine in plan.machines:
        exposure = worst.get(machine.id)
        way = ways[machine.id]
        restore = None if way is None else way[0]
        kept = Kept(
            None if exposure is None else exposure.worst_s,
            None if exposure is None else exposure.rpo_met,
            None if restore is None else restore.full_s,
            rto_met(machine, restore),
        )
        if kept.rpo_met is False:
            newest = forecast.newest_points[machine.id]
            moment = worst_moment(newest, night.start, night.end)
            if moment is not None:
                kept = kept._replace(worst_at=moment.at, worst_since=moment.since)
        if kept.rto_met is False and way is not None:
            back = way_back(plan, machine, chain_of(plan, way[1], night.end), None, routes)
            kept = kept._replace(limited_by=None if back is None else back.limited_by)
        found.append(kept)
    return found
