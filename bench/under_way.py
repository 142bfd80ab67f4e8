"""A night under way: simulated from its middle, its outlook, and what would help."""

from __future__ import annotations

from dataclasses import replace
from datetime import date
from functools import partial

from sizes import REPEATED, large, sample
from timing import seconds, told

from gambrel.core.ledger.as_it_goes import DRAWS, outlook, rest_of
from gambrel.core.ledger.predicting import predicted_runs
from gambrel.core.ledger.what_would_help import what_would_help
from gambrel.core.nights.nights import night_of, planner_zone
from gambrel.core.plan.objects import Plan
from gambrel.core.plan.reading import read_plan
from gambrel.core.simulation.simulate import simulate, state_at
from gambrel.core.units import HOUR

FRIDAY = date(2026, 11, 6)
HOURS = (("21:00", 9.0), ("01:20", 13.0 + 1 / 3), ("04:00", 16.0))
"""Instants of the night, and how long after noon they are."""


def a_night_under_way() -> list[str]:
    """The rest of Friday's night from three instants, beside the night from its start."""
    lines = [
        "Friday's night from its start, and from instants in it, with all that is under way read "
        f"anew each time. *outlook*: {DRAWS} draws of the rest as it goes. *what would help*: all "
        "candidates tried.",
        "",
        "| estate | from | from its start | from there | there to start | outlook "
        "| what would help |",
        "|---|---|---:|---:|---:|---:|---:|",
    ]
    for name, make, times in (("sample", sample, REPEATED), ("large", large, 3)):
        lines += _estate(name, read_plan(make()), times)
    return lines


def _estate(name: str, plan: Plan, times: int) -> list[str]:
    night = night_of(FRIDAY, planner_zone(plan))
    whole = simulate(plan, night.start, night.end)
    lines = []
    for clock, hours in HOURS:
        at = night.start + hours * HOUR
        there = replace(plan, state=state_at(plan, night.start, night.end, at))
        start = seconds(partial(simulate, plan, night.start, night.end), times)
        middle = seconds(partial(simulate, there, at, night.end), times)
        rest = rest_of(there, night, predicted_runs(whole, night))
        drawn = seconds(partial(outlook, rest))
        helped = seconds(partial(what_would_help, rest, ()))
        lines.append(
            f"| {name} | {clock} | {told(start)} | {told(middle)} | {middle / start:.2f} "
            f"| {told(drawn)} | {told(helped)} |"
        )
    return lines
