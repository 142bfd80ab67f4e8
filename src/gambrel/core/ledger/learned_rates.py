"""How fast streams and shared resources really are, as many nights show it.

Each night tells of a rate by where its machine-runs that were limited by it crowd together (their
shorth, see `shown_tonight`). What machine-runs of one night have in common is the night, so that
nights are what is counted: the factor is the median of theirs, its error 1.4826 · MAD / √n of n
nights (P. J. Rousseeuw, C. Croux, "Alternatives to the median absolute deviation", 1993). 1.4826 ·
MAD itself is how much the rate varies from night to night.

Nights in which the plan stated another rate say nothing of the one that it states now.
"""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass
from math import exp, isfinite, log, sqrt
from statistics import median
from typing import Any, NamedTuple

from gambrel.core.ledger.records import RunRecord
from gambrel.core.ledger.robust import beyond_chance, robust_spread, shorth
from gambrel.core.ledger.shown_tonight import CORRECTED, RateTold, rates_told
from gambrel.core.plan.learned import is_still, stated_before
from gambrel.core.plan.objects import Plan
from gambrel.core.units import DAY, HOUR, SAME_INSTANT

LEAST_NIGHTS = 5
LEAST_RUNS = 2
"""Of one night, for it to count."""
LEAST_OF_NOISE = 3
"""Of one night, for it to tell how far single machine-runs are from it."""
LEAST_OF_DRIFT = 6
"""Of one night, for it to tell whether the later half is above the earlier."""
SHORTEST_S, LONGEST_S = HOUR, 7 * DAY
"""Drift that is faster, or slower, cannot be told from chance."""

NightRates = Mapping[str, Sequence[float | None]]
"""Of a night, by what it is about, a `NightRate`; older ledgers lack the last of its values."""


class NightRate(NamedTuple):
    """What a night tells of a rate.

    Attributes:
        middle: where the logarithms of factors crowd together.
        runs: of how many machine-runs.
        stated: the rate that the plan stated.
        noise: the spread of single machine-runs around the middle.
        drift: by how much the later half is above the earlier, and `apart_s`, how long after it;
            None where they are few.
    """

    middle: float
    runs: int
    stated: float
    noise: float | None = None
    drift: float | None = None
    apart_s: float | None = None


@dataclass(frozen=True, slots=True)
class LearnedRate:
    """A rate as nights show it.

    Attributes:
        what: "stream:hot_add", or a resource as "proxy:quay-p2".
        stated: in the unit of the plan: MiB/s, or Mbit/s for links and NICs.
        factor: of what is stated; `error`: the standard error of its logarithm.
        spread: the standard deviation of its logarithm from night to night.
        noise: that of single machine-runs around their night; None where few nights tell it.
        fades_s: after how long e to the -1 is left of what sets a night apart; None where that
            cannot be told.
        first_stated: what was stated before it was taken over from the ledger; None where that
            was not done.
        nights, runs: what it rests on.
    """

    what: str
    stated: float
    factor: float
    error: float
    spread: float
    nights: int
    runs: int
    noise: float | None = None
    fades_s: float | None = None
    first_stated: float | None = None

    @property
    def off(self) -> float:
        """The logarithm by which what nights show is off from what somebody stated."""
        return log(self.learned / (self.first_stated or self.stated))

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


def night_rates(plan: Plan, runs: Iterable[RunRecord], at: float) -> dict[str, NightRate]:
    """What a night tells of rates; `plan` is the one that was carried out."""
    found = {}
    for what, told in rates_told(plan, runs, at).items():
        stated = stated_rate(plan, what)
        if stated is not None and len(told) >= LEAST_RUNS:
            found[what] = _night_rate(told, stated)
    return found


def _night_rate(told: Sequence[RateTold], stated: float) -> NightRate:
    factors = [each.log_factor for each in told]
    drift = apart_s = None
    if len(told) >= LEAST_OF_DRIFT:
        by_time = sorted(told, key=lambda each: each.at)
        half = len(by_time) // 2
        early, late = by_time[:half], by_time[-half:]
        drift, apart_s = (
            shorth([each[i] for each in late]) - shorth([each[i] for each in early]) for i in (0, 1)
        )
    return NightRate(shorth(factors), len(told), stated, robust_spread(factors), drift, apart_s)


def learned_rates(plan: Plan, nights: Iterable[NightRates]) -> list[LearnedRate]:
    """The rates that enough nights have shown, by name.

    Nights in which the plan stated another rate say nothing of the one that it states now, unless
    that one was taken over from what they showed.
    """
    told: dict[str, list[NightRate]] = {}
    entries: dict[str, tuple[Any, str]] = {}
    for night in nights:
        for what, values in night.items():
            rate = NightRate(*values)  # type: ignore[arg-type]
            stating, now = stating_of(plan, what), stated_rate(plan, what)
            if stating is None or now is None or not isfinite(rate.middle):
                continue
            if is_still(*stating, rate.stated, SAME_INSTANT * rate.stated):
                entries[what] = stating
                # The night told it as a part of what was stated then.
                middle = rate.middle + log(rate.stated / now)
                told.setdefault(what, []).append(rate._replace(middle=middle))
    return [
        _learned(what, entries[what], each)
        for what, each in sorted(told.items())
        if len(each) >= LEAST_NIGHTS
    ]


def _learned(what: str, stating: tuple[Any, str], nights: Sequence[NightRate]) -> LearnedRate:
    middles = [night.middle for night in nights]
    spread = robust_spread(middles)
    noises = [n.noise for n in nights if n.noise is not None and n.runs >= LEAST_OF_NOISE]
    noise = median(noises) if len(noises) >= LEAST_NIGHTS else None
    return LearnedRate(
        what, float(getattr(*stating)), exp(median(middles)),
        spread / sqrt(len(nights)), spread, len(nights),
        sum(night.runs for night in nights), noise, _fading(nights, spread, noise),
        stated_before(*stating),
    )  # fmt: skip


def _fading(nights: Sequence[NightRate], spread: float, noise: float | None) -> float | None:
    """After how long e to the -1 is left of how a night differs from others, in seconds.

    Of an Ornstein-Uhlenbeck process with standard deviation σ, what it is after a time Δ differs
    from what it was by a variance of 2 · σ² · (1 - exp(-Δ / τ)). None where nights do not tell it.
    """
    told = [night for night in nights if night.drift is not None and night.apart_s]
    if len(told) < LEAST_NIGHTS or noise is None:
        return None
    count = median(night.runs for night in told)
    usual = beyond_chance(spread, noise, count)
    if usual == 0.0:
        return None
    drifts = [night.drift for night in told if night.drift is not None]
    # What is common to all nights, as other machines are read late than early, is no drift. Each
    # half has half of the machine-runs, so that their difference has four times the variance.
    drifted = beyond_chance(robust_spread(drifts), 2.0 * noise, count)
    left = 1.0 - min(drifted**2 / (2.0 * usual**2), 1.0)
    apart_s = median(night.apart_s for night in told if night.apart_s)
    if left <= exp(-apart_s / SHORTEST_S):
        return SHORTEST_S
    return LONGEST_S if left >= exp(-apart_s / LONGEST_S) else -apart_s / log(left)
