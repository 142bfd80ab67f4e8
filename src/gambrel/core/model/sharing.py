"""Weighted max-min fair rates by progressive filling (section 5).

The method is water filling as in D. Bertsekas and R. Gallager, Data Networks (2nd ed.), 6.5.2,
with weights, per-stream ceilings and a use of each resource per unit of rate.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from math import inf

SAME_LEVEL = 1e-9
"""Constraints within this relative distance bind together."""

OWN_CEILING = -1
"""The squeeze of a stream that its own ceiling limits."""
UNLIMITED = -2
"""The squeeze of a stream that nothing limits."""


@dataclass(frozen=True, slots=True)
class Demand:
    """Alike streams that ask for a rate.

    Attributes:
        share: weight, above 0.
        ceiling: the most one stream can do, in the unit of the rates; None: no ceiling.
        uses: (resource, amount used per unit of rate); resources are ordered as squeezes are named.
        count: how many such streams there are.
    """

    share: float
    ceiling: float | None
    uses: tuple[tuple[int, float], ...]
    count: int = 1


@dataclass(frozen=True, slots=True)
class Allotment:
    """The rate of each of some alike streams, and the resource or `OWN_CEILING` behind it."""

    rate: float
    squeeze: int


def fair_rates(demands: Sequence[Demand], capacity: Mapping[int, float]) -> list[Allotment]:
    """Share capacities out: the rate of every demand, in order.

    One level rises from 0 for all, rate = share · level. Where a resource is used up, or a ceiling
    is met, the streams concerned stop; the rest go on. Only resources named in `capacity` limit.
    """
    result: list[Allotment | None] = [None] * len(demands)
    rising = list(range(len(demands)))
    left: dict[int, float] = {}
    for demand in demands:
        for resource, use in demand.uses:
            if use > 0 and resource in capacity:
                left[resource] = capacity[resource]
    while rising:
        pressure: dict[int, float] = {}
        level = inf
        for i in rising:
            demand = demands[i]
            if demand.ceiling is not None:
                level = min(level, demand.ceiling / demand.share)
            weight = demand.share * demand.count
            for resource, use in demand.uses:
                if use > 0 and resource in left:
                    pressure[resource] = pressure.get(resource, 0.0) + weight * use
        levels = {resource: left[resource] / p for resource, p in pressure.items()}
        if levels:
            level = min(level, min(levels.values()))
        if level == inf:
            for i in rising:
                result[i] = Allotment(inf, UNLIMITED)
            break
        bound = level * (1.0 + SAME_LEVEL)
        binding = {resource for resource, at in levels.items() if at <= bound}
        still: list[int] = []
        for i in rising:
            demand = demands[i]
            if demand.ceiling is not None and demand.ceiling / demand.share <= bound:
                result[i] = Allotment(demand.ceiling, OWN_CEILING)
                continue
            squeezing = [r for r, use in demand.uses if use > 0 and r in binding]
            if squeezing:
                result[i] = Allotment(demand.share * level, min(squeezing))
            else:
                still.append(i)
        for i in rising:
            allotted = result[i]
            if allotted is not None:
                demand = demands[i]
                for resource, use in demand.uses:
                    if resource in left:
                        used = allotted.rate * use * demand.count
                        left[resource] = max(0.0, left[resource] - used)
        rising = still
    return [allotment for allotment in result if allotment is not None]
