"""Compiling the engine before anybody waits for it."""

from __future__ import annotations

from datetime import date

from gambrel.core.nights import night_of
from gambrel.core.plan_reading import read_plan
from gambrel.core.simulate import simulate
from gambrel.demo import tiny

A_NIGHT = date(2026, 11, 2)


def compile_engine() -> None:
    """Simulate a small plan: what is not compiled and kept on the disk yet is then."""
    plan = read_plan(tiny())
    night = night_of(A_NIGHT, plan.sites[0].time_zone)
    simulate(plan, night.start, night.end)


if __name__ == "__main__":
    compile_engine()
