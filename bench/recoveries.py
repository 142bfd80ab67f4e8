"""The day of the loss: a cluster, a site, and a site of the large estate, brought back."""

from __future__ import annotations

import time
from datetime import date
from functools import partial

from sizes import REPEATED, large, sample
from timing import seconds, told

from gambrel.core.nights.nights import night_of, planner_zone
from gambrel.core.plan.objects import Plan
from gambrel.core.plan.reading import read_plan
from gambrel.core.recovery.coming_back import Way, recover
from gambrel.core.recovery.loss import Loss
from gambrel.core.recovery.proposing import proposals
from gambrel.core.simulation.simulate import simulate
from gambrel.core.units import HOUR


def day_of_the_loss() -> list[str]:
    """Losing the site with most machines, the rest standing still and going on."""
    lines = [
        "Every machine of the site with most machines is lost in the second night at 02:00; eight "
        "restores are under way at one time. *first*: the first time, *again*: another order of "
        "the same loss, as while a lane is dragged. *night*: one night simulated without a loss.",
        "",
        "| estate | machines lost | other backups | night | first | again | again to night "
        "| better ways |",
        "|---|---:|---|---:|---:|---:|---:|---:|",
    ]
    for name, make in (("sample", sample), ("large", large)):
        lines += _estate(name, read_plan(make()))
    return lines


def _estate(name: str, plan: Plan) -> list[str]:
    zone = planner_zone(plan)
    first = night_of(date(2026, 11, 2), zone)
    second = night_of(date(2026, 11, 3), zone)
    forecast = simulate(plan, first.start, second.end)
    at = second.start + 14 * HOUR
    points = list(forecast.history.at(at))
    sites = [plan.site_of(machine) for machine in plan.machines]
    loss = Loss(at, sites=(max(plan.site_by_id, key=sites.count),))
    if sites.count(loss.sites[0]) == len(sites):
        # An estate of one site loses all but what it has for other hosts.
        loss = Loss(at, hosts=(plan.hosts[0].id,))
    night = seconds(lambda: simulate(plan, first.start, first.end), 3)
    play = partial(recover, plan, points, loss)
    lines = []
    for goes_on in (False, True):
        begin = time.perf_counter()
        found = play(Way(at_once=8, goes_on=goes_on))
        once = time.perf_counter() - begin
        order = tuple(row.machine for row in reversed(found.rows))
        way = Way(at_once=8, goes_on=goes_on, order=order)
        again = seconds(partial(play, way), REPEATED)
        better = seconds(partial(proposals, plan, found, play))
        lines.append(
            f"| {name} | {len(found.rows):,} | {'go on' if goes_on else 'stand still'} "
            f"| {told(night)} | {told(once)} | {told(again)} | {again / night:.2f} "
            f"| {told(better)} |"
        )
    return lines
