"""How much numbers vary, where a few of them may be far off."""

from __future__ import annotations

from collections.abc import Sequence
from statistics import median


def robust_spread(values: Sequence[float]) -> float:
    """The standard deviation as the median distance from the median tells it: 1.4826 · MAD.

    P. J. Rousseeuw, C. Croux, "Alternatives to the median absolute deviation", 1993.
    """
    centre = median(values)
    return 1.4826 * median(abs(value - centre) for value in values)
