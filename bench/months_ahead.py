"""Months ahead: projections, what is edited in one, and the nights of a month."""

from __future__ import annotations

from dataclasses import replace
from datetime import date

from sizes import REPEATED, large, sample
from timing import seconds, told

from gambrel.core.edits.operations import change_job
from gambrel.core.nights.nights import night_of, planner_zone
from gambrel.core.plan.objects import Plan
from gambrel.core.plan.reading import read_plan
from gambrel.core.runway.expecting import expected
from gambrel.core.runway.months import after_months, months_between
from gambrel.core.runway.nights_ahead import look_at, stages
from gambrel.core.runway.projection import project
from gambrel.core.simulation.simulate import simulate
from gambrel.core.units import MIB

MONTHS = 24
MANY = 2_000
"""Estates of so many machines are measured a few times only."""


def months_ahead() -> list[str]:
    """A look 24 months ahead, on two estates."""
    lines = [
        f"A look {MONTHS} months ahead. *projection*: all of it, from nothing. *one job edited*: "
        "its retention changed, the rest taken over. *night*: one night simulated. *month of "
        "nights*: every night of the second month, simulated from the points of the projection.",
        "",
        "| estate | points gone through | night | projection | one job edited "
        "| edited to projection | month of nights | kept |",
        "|---|---:|---:|---:|---:|---:|---:|---:|",
    ]
    for name, make in (("sample", sample), ("large", large)):
        lines.append(_estate(name, read_plan(make())))
    return lines


def _estate(name: str, plan: Plan) -> str:
    zone = planner_zone(plan)
    night = night_of(date(2026, 11, 2), zone)
    plan = replace(plan, state=replace(plan.state, sizes_as_of=night.start))
    end = after_months(night.start, MONTHS, zone)
    once = seconds(lambda: simulate(plan, night.start, night.end), 3)
    known = project(plan, night.start, end)
    times = REPEATED if len(plan.machines) < MANY else 3
    whole = seconds(lambda: project(plan, night.start, end), times)
    job = max(plan.jobs, key=lambda each: len(each.machines.ids) or 1)
    changed = change_job(job.id, retention={"points": 9}).apply(plan)
    edited = seconds(lambda: project(changed, night.start, end, known=known), times)
    months = months_between(night.start, after_months(night.start, 2, zone), zone)

    def nights() -> None:
        for stage in stages(expected(plan), night.start, months[1:2], zone):
            look_at(stage, stage.play())

    month = seconds(nights)
    points = sum(len(at) * len(space.machines) for space in known.jobs for at in space.instants)
    return (
        f"| {name} | {points:,} | {1000 * once:,.0f} ms | {told(whole)} | {told(edited)} "
        f"| {edited / whole:.2f} | {told(month)} | {known.nbytes() / MIB:,.0f} MiB |"
    )
