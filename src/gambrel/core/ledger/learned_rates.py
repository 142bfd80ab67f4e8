"""How fast streams and shared resources really are, as many nights show it.

Each night tells of a rate by the median of its machine-runs that were limited by it
(`shown_tonight`). What machine-runs of one night have in common is the night, so that nights are
what is counted: the factor is the median of theirs, its error 1.4826 · MAD / √n of n nights
(P. J. Rousseeuw, C. Croux, "Alternatives to the median absolute deviation", 1993). 1.4826 · MAD
itself is how much the rate varies from night to night.

Nights in which the plan stated another rate say nothing of the one that it states now.
"""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from dataclasses import dataclass
from math import exp, isfinite, log, sqrt
from statistics import median
from typing import Any

from gambrel.core.ledger.records import RunRecord
from gambrel.core.ledger.robust import robust_spread
from gambrel.core.ledger.shown_tonight import CORRECTED, seen_by
from gambrel.core.plan.learned import is_still
from gambrel.core.plan.objects import Plan
from gambrel.core.units import SAME_INSTANT

LEAST_NIGHTS = 5
LEAST_RUNS = 2
"""Of one night, for it to count."""

NightRates = Mapping[str, tuple[float, int, float]]
"""Of a night, by what it is about: (median logarithm of the factor, machine-runs, stated rate)."""


@dataclass(frozen=True, slots=True)
class LearnedRate:
    """A rate as nights show it.

    Attributes:
        what: "stream:hot_add", or a resource as "proxy:quay-p2".
        stated: in the unit of the plan: MiB/s, or Mbit/s for links and NICs.
        factor: of what is stated; `error`: the standard error of its logarithm.
        spread: the standard deviation of its logarithm from night to night.
        nights, runs: what it rests on.
    """

    what: str
    stated: float
    factor: float
    error: float
    spread: float
    nights: int
    runs: int

    @property
    def learned(self) -> float:
        """The rate, in the unit of what is stated."""
        return self.stated * self.factor


def stated_rate(plan: Plan, what: str) -> float | None:
    """What a plan states of a rate; None where it states none, or knows nothing of the kind."""
    stating = stating_of(plan, what)
    value = None if stating is None else getattr(*stating)
    return None if value is None else float(value)


def stating_of(plan: Plan, what: str) -> tuple[Any, str] | None:
    """The entry of a plan that states a rate, and its key."""
    kind, _, name = what.partition(":")
    if kind == "stream":
        key = f"{name}_mib_per_s"
        return (plan.transports, key) if hasattr(plan.transports, key) else None
    if kind not in CORRECTED:
        return None
    list_name, (key,) = CORRECTED[kind]
    entry = next((each for each in getattr(plan, list_name) if each.id == name), None)
    return None if entry is None else (entry, key)


def night_rates(plan: Plan, runs: Iterable[RunRecord], at: float) -> dict[str, Any]:
    """What a night tells of rates, as `NightRates`; `plan` is the one that was carried out."""
    found = {}
    for what, told in seen_by(plan, runs, at).items():
        stated = None if what.startswith("change:") else stated_rate(plan, what)
        if stated is not None and len(told) >= LEAST_RUNS:
            found[what] = (median(told), len(told), stated)
    return found


def learned_rates(plan: Plan, nights: Iterable[NightRates]) -> list[LearnedRate]:
    """The rates that enough nights have shown, by name.

    Nights in which the plan stated another rate say nothing of the one that it states now, unless
    that one was taken over from what they showed.
    """
    told: dict[str, list[tuple[float, int]]] = {}
    rates: dict[str, float] = {}
    for night in nights:
        for what, (middle, runs, stated) in night.items():
            stating, now = stating_of(plan, what), stated_rate(plan, what)
            if stating is None or now is None or not isfinite(middle):
                continue
            if is_still(*stating, stated, SAME_INSTANT * stated):
                rates[what] = now
                # The night told it as a part of what was stated then.
                told.setdefault(what, []).append((middle + log(stated / now), runs))
    found = []
    for what, each in sorted(told.items()):
        if len(each) < LEAST_NIGHTS:
            continue
        middles = [middle for middle, _ in each]
        spread = robust_spread(middles)
        found.append(
            LearnedRate(
                what, rates[what], exp(median(middles)),
                spread / sqrt(len(each)), spread, len(each),
                sum(runs for _, runs in each),
            )
        )  # fmt: skip
    return found
