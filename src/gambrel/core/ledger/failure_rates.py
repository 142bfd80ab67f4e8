"""How often machines fail, as the ledger shows it.

Of r runs of a machine f failed. A rate from few runs is drawn to that of all machines together: the
mean of a beta distribution of a = f + w·p and b = r - f + w·(1 - p), with the share p of all runs
that failed and the weight w of `LIKE_RUNS` runs (the beta-binomial case of C. N. Morris,
"Parametric Empirical Bayes Inference", 1983). In the range nine of ten such rates lie.
"""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterable, Mapping
from dataclasses import dataclass

from scipy.stats import beta

from gambrel.core.plan.objects import Plan

LIKE_RUNS = 10.0
"""What all machines are like weighs as much as so many runs of its own."""
PLAINLY = 2.0
"""A machine fails plainly more than others where it does at least so many times as often."""

Ended = tuple[str, bool, str, int]
"""(machine, whether it failed, why, how many runs of it did so)."""


@dataclass(frozen=True, slots=True)
class FailureRate:
    """How often a machine fails.

    Attributes:
        runs, failed: how many runs of it ended by themselves, and how many of these failed.
        rate, low, high: failures by run, and the range in which nine of ten such rates lie.
        reason: the most frequent one, of `alike` runs.
        plainly: whether it fails plainly more than others.
    """

    machine: str
    runs: int
    failed: int
    rate: float
    low: float
    high: float
    reason: str
    alike: int
    plainly: bool


def overall_rate(runs: int, failed: int) -> float:
    """The share of all runs that failed; half a failure in one run more, so that it is never 0."""
    return (failed + 0.5) / (runs + 1.0)


def rates_of_all(plan: Plan, ended: Iterable[Ended]) -> Mapping[str, float]:
    """How often each machine of a plan fails, by run; one without runs as often as all together.

    Empty where there is no run at all.
    """
    runs: Counter[str] = Counter()
    failed: Counter[str] = Counter()
    for machine, so, _, count in ended:
        if machine in plan.machine_by_id:
            runs[machine] += count
            failed[machine] += count * so
    if not runs:
        return {}
    overall = overall_rate(runs.total(), failed.total())
    return {
        machine.id: _mean(runs[machine.id], failed[machine.id], overall)
        for machine in plan.machines
    }


def _mean(runs: int, failed: int, overall: float) -> float:
    return (failed + LIKE_RUNS * overall) / (runs + LIKE_RUNS)


def failure_rates(plan: Plan, ended: Iterable[Ended]) -> tuple[float, list[FailureRate]]:
    """The rate of all machines together, and those of the machines that failed, the worst first.

    Machines that the plan does not have are left out.
    """
    runs: Counter[str] = Counter()
    reasons: dict[str, Counter[str]] = {}
    for machine, failed, reason, count in ended:
        if machine not in plan.machine_by_id:
            continue
        runs[machine] += count
        if failed:
            reasons.setdefault(machine, Counter())[reason] += count
    total = sum(each.total() for each in reasons.values())
    overall = overall_rate(runs.total(), total)
    found = [_rate(machine, runs[machine], each, overall) for machine, each in reasons.items()]
    return overall, sorted(found, key=lambda each: (-each.rate, each.machine))


def _rate(machine: str, runs: int, reasons: Counter[str], overall: float) -> FailureRate:
    failed = reasons.total()
    a, b = failed + LIKE_RUNS * overall, runs - failed + LIKE_RUNS * (1.0 - overall)
    low, high = (float(beta.ppf(part, a, b)) for part in (0.05, 0.95))
    reason, alike = max(reasons.items(), key=lambda entry: (entry[1], entry[0]))
    return FailureRate(
        machine, runs, failed, _mean(runs, failed, overall), low, high, reason, alike,
        low > PLAINLY * overall,
    )  # fmt: skip
