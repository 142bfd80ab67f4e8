"""Compiling the engine before anybody waits for it."""

from __future__ import annotations

from dataclasses import replace
from datetime import date

from gambrel.core.balance.objective import Evaluator
from gambrel.core.balance.problem import Problem
from gambrel.core.loads.load_series import fullest_pool, load_names, load_table
from gambrel.core.loads.night_loads import loads_in_spans
from gambrel.core.nights.nights import Night, night_of
from gambrel.core.plan.objects import Plan, Volume
from gambrel.core.plan.reading import read_plan
from gambrel.core.runway.projection import project
from gambrel.core.runway.space import drawn, lives
from gambrel.core.simulation.engine.world import open_world, set_flow
from gambrel.core.simulation.forecast import Forecast
from gambrel.core.simulation.known_points import snapshot_of_state
from gambrel.core.simulation.simulate import simulate, state_at
from gambrel.core.units import DAY, MINUTE
from gambrel.demo import tiny

A_NIGHT = date(2026, 11, 2)
A_MONTH_S = 30 * DAY


def compile_engine() -> None:
    """Do once, with a small plan, what is compiled: it is kept on the disk from then on."""
    plan = read_plan(tiny())
    night = night_of(A_NIGHT, plan.sites[0].time_zone)
    forecast = simulate(plan, night.start, night.end)
    forecast.runs[0].totals()
    _go_on_from_the_middle(plan, forecast)
    _look_at_loads(forecast, night)
    _score(plan, night)
    _look_ahead(plan, night)


def _go_on_from_the_middle(plan: Plan, forecast: Forecast) -> None:
    begun = next(run.began for run in forecast.runs if run.began is not None)
    middle = begun + MINUTE
    state = state_at(plan, forecast.from_, forecast.to, middle)
    simulate(replace(plan, state=state), middle, forecast.to)


def _look_at_loads(forecast: Forecast, night: Night) -> None:
    names = load_names(forecast.plan)
    within = forecast.loads.within(night.start, night.end)
    for records in (forecast.loads, within):
        for load in load_table(forecast, names, night.start, night.end, records):
            _ = load.peak, load.total, load.waiting_jobs
    loads_in_spans(forecast, names, [(night.start, night.end)], 1)
    for job in range(len(forecast.plan.jobs)):
        fullest_pool(forecast, job, night.start, night.end)


def _score(plan: Plan, night: Night) -> None:
    points = snapshot_of_state(plan)
    problem = Problem(plan, night.start, night.end, night.zone, points, frozenset())
    evaluator = Evaluator(problem)
    evaluator.trace(plan)
    world = evaluator.walk(plan).world
    set_flow(open_world(world), world.flow)


def _look_ahead(plan: Plan, night: Night) -> None:
    first, *others = plan.repositories
    volumes = tuple(Volume(name, 1000.0) for name in ("v1", "v2"))
    plan = replace(plan, repositories=(replace(first, capacity_gib=None, volumes=volumes), *others))
    projection = project(plan, night.start, night.start + A_MONTH_S, keep_points=True)
    lives(projection)
    drawn(projection, 0)


if __name__ == "__main__":
    compile_engine()
