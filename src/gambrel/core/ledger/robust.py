"""What numbers come to, and how much they vary, where they are few or some may be far off."""

from __future__ import annotations

from collections.abc import Sequence
from math import pi, sqrt
from statistics import fmean, median

LEAST_RUNS = 5
"""Fewer runs are too few to learn from."""
LEAST_OF_A_FOLDER = 3
"""Fewer machines do not tell what a folder is like."""
ERRORS_APART = 3.0


def robust_spread(values: Sequence[float]) -> float:
    """The standard deviation as the median distance from the median tells it: 1.4826 · MAD.

    P. J. Rousseeuw, C. Croux, "Alternatives to the median absolute deviation", 1993.
    """
    centre = median(values)
    return 1.4826 * median(abs(value - centre) for value in values)


def shorth(values: Sequence[float]) -> float:
    """The mean of the shortest half of some values: where most of them crowd together.

    D. F. Andrews and others, "Robust Estimates of Location", 1972. Beside the median it is moved
    less where those that are off are more on one side than on the other.
    """
    ordered = sorted(values)
    half = len(ordered) // 2 + 1
    begin = min(range(len(ordered) - half + 1), key=lambda i: ordered[i + half - 1] - ordered[i])
    return fmean(ordered[begin : begin + half])


def beyond_chance(spread: float, noise: float, count: float) -> float:
    """How much nights vary, from the spread of their medians of so many machine-runs.

    A median varies by chance alone, by π/2 · noise² / count (M. G. Kendall, A. Stuart, "The
    Advanced Theory of Statistics", volume 1, 10.10).
    """
    return sqrt(max(0.0, spread**2 - pi / 2.0 * noise**2 / count))


def speaks_against(stated: float, learned: float, error: float, step: float, part: float) -> bool:
    """Whether what was learned says plainly that what is stated does not hold.

    It is apart by more than three standard errors, than a part of what is stated, and than the
    steps in which it is stated.
    """
    return abs(learned - stated) > max(step, part * stated, ERRORS_APART * error)
