"""What each option of a job costs a week of its runs."""

from __future__ import annotations

from dataclasses import dataclass, replace
from typing import Any

from gambrel.core.plan.objects import Job, Plan
from gambrel.core.questions.isolated_job import alone
from gambrel.core.simulation.simulate import simulate
from gambrel.core.units import DAY

_OPTIONS: tuple[tuple[str, str, dict[str, Any]], ...] = (
    ("preparation", "quiescing, steps in the guest and halting",
     {"quiesce_s": 0.0, "guest_before_s": 0.0, "guest_after_s": 0.0, "standstill": "none"}),
    ("before_after", "the steps before and after the machines",
     {"before_min": 0.0, "after_min": 0.0}),
    ("verify", "verifying", {"verify": "none"}),
    ("encrypt", "encrypting", {"encrypt": False}),
    ("compress", "compressing", {"compress": False}),
    ("skip_swap", "leaving out swap", {"skip_swap": False}),
    ("skip_unused", "leaving out unused blocks", {"skip_unused": False}),
    ("tracking", "tracking changed blocks", {"tracking": False}),
    ("limit_mbit_per_s", "its limit on bandwidth", {"limit_mbit_per_s": None}),
    ("max_streams", "its limit on streams", {"max_streams": None}),
)  # fmt: skip
"""The options, each with the values of a job that does not use it."""


@dataclass(frozen=True, slots=True)
class OptionCost:
    """What an option adds to a week of a job's runs; negative where it saves."""

    option: str
    words: str
    seconds: float
    wire_bytes: float


def option_costs(plan: Plan, job: Job, from_: float) -> list[OptionCost]:
    """What each option that a job uses adds to its runs of a week, the job alone on its paths."""

    def played(changed: Job) -> tuple[float, float]:
        forecast = simulate(alone(plan, changed), from_, from_ + 7 * DAY)
        runs = [run for run in forecast.runs if run.ended is not None]
        seconds = sum((run.ended or 0.0) - run.occurrence for run in runs)
        return seconds, sum(run.totals().wire_bytes for run in runs)

    seconds, wire = played(job)
    costs = []
    for option, words, off in _OPTIONS:
        other = replace(job, **off)
        if other != job:
            without = played(other)
            costs.append(OptionCost(option, words, seconds - without[0], wire - without[1]))
    return costs
