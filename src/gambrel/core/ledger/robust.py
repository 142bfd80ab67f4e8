"""What numbers come to, and how much they vary, where they are few or some may be far off."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from math import exp, log
from statistics import median

from gambrel.core.plan.objects import Plan

LEAST_RUNS = 5
"""Of fewer runs nothing is said."""
LIKE_RUNS = 3.0
"""What others are like weighs as much as so many runs of its own."""
LEAST_OF_A_FOLDER = 3
ERRORS_APART = 3.0


def robust_spread(values: Sequence[float]) -> float:
    """The standard deviation as the median distance from the median tells it: 1.4826 · MAD.

    P. J. Rousseeuw, C. Croux, "Alternatives to the median absolute deviation", 1993.
    """
    centre = median(values)
    return 1.4826 * median(abs(value - centre) for value in values)


def speaks_against(stated: float, learned: float, error: float, step: float, part: float) -> bool:
    """Whether what was learned says plainly that what is stated does not hold.

    It is apart by more than three standard errors, than a part of what is stated, and than the
    steps in which it is stated.
    """
    return abs(learned - stated) > max(step, part * stated, ERRORS_APART * error)


def drawn_to_folders(
    plan: Plan, found: Mapping[str, tuple[float, int]], but: frozenset[str] = frozenset()
) -> Mapping[str, float]:
    """Values of machines, each moved towards the median of its folder as its runs are few.

    The mean of the logarithms, weighed by the machine's runs and `LIKE_RUNS`.

    Args:
        found: (value above 0, number of runs) by machine of the plan.
        but: machines that are not like their folder; they stay as they are.
    """
    by_folder: dict[str, list[float]] = {}
    for machine, (value, _) in found.items():
        by_folder.setdefault(plan.machine_by_id[machine].folder, []).append(log(value))
    drawn = {}
    for machine, (value, runs) in found.items():
        others = by_folder[plan.machine_by_id[machine].folder]
        drawn[machine] = value
        if len(others) >= LEAST_OF_A_FOLDER and machine not in but:
            weighed = runs * log(value) + LIKE_RUNS * median(others)
            drawn[machine] = exp(weighed / (runs + LIKE_RUNS))
    return drawn
