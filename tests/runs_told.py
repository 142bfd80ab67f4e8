"""Events of runs for tests: a runner that says what a plan's own simulation says."""

from __future__ import annotations

from datetime import date

from gambrel.core.plan.instants import format_instant
from gambrel.standins.performance import Performance
from gambrel.standins.true_world import TrueWorld

FIRST = date(2026, 11, 6)


class AsPlanned(TrueWorld):
    """A world in which all is as the plan says."""

    __slots__ = ()

    def plan_of(self, plan, night):
        return plan


def as_planned(plan, at, told=None, **more):
    """A performance of a plan in which only what is told goes wrong."""
    quiet = {FIRST.replace(day=day): () for day in range(1, 29)}
    told = {**quiet, **(told or {})}
    return Performance(plan, at, plan.state.points, AsPlanned(0, FIRST), told, **more)


def event(ident, what, at, **more):
    """An event as JSON, of the run of "nightly" that is due at FRIDAY_NOON + 9 h."""
    told = {"id": ident, "what": what, "at": format_instant(at), **more}
    for key in ("occurrence", "at_point"):
        if isinstance(told.get(key), float):
            told[key] = format_instant(told[key])
    return told
