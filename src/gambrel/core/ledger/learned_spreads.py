"""How much nights vary, as the ledger tells it of single rates, folders and machines.

What it is silent of varies like the middle of the others of its kind, and where it tells of too few
of those, as is usual. Besides, it may be as far off from what was stated as the others were.

A rate that the plan states otherwise than nights show it is off by that too. So its spread is the
root of the sum of the squares of: its standard deviation from night to night, the error of what was
learned, and the logarithm of the factor between learned and stated. So with change.

The median of a folder's machines in a night, of how much more each changed than was learned of it,
tells what they have in common; Gambrel takes off what such medians vary by chance.
The middle of what the rates tell of it is how fast they drift back to what they usually are.
"""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Iterable, Mapping
from math import hypot, log, sqrt
from statistics import median

from gambrel.core.ledger.learned_change import Increment, LearnedChange, shares_changed
from gambrel.core.ledger.learned_rates import LearnedRate
from gambrel.core.ledger.night_spreads import USUAL_NIGHTS, NightSpreads, kind_of
from gambrel.core.ledger.robust import LEAST_OF_A_FOLDER, LEAST_RUNS, beyond_chance, robust_spread
from gambrel.core.ledger.shown_tonight import folder_of
from gambrel.core.model.volume import changed_share
from gambrel.core.nights.nights import night_at, planner_zone
from gambrel.core.plan.objects import Machine, Plan

LEAST_TOLD = 3
"""So many rates, folders or machines tell what others of their kind are like."""
LEAST_STREAMS = 1
"""An estate may well use only one of the four transports."""
LEAST_SPREAD = 0.01
"""Nights that are all alike are few nights."""
LEAST_NOISE = 0.03
"""Machine-runs of a night that are all alike have something in common that one cannot see."""


def learned_spreads(
    plan: Plan,
    rates: Iterable[LearnedRate],
    changes: Mapping[str, LearnedChange],
    increments: Iterable[Increment],
    weekday: int | None,
    usual: NightSpreads = USUAL_NIGHTS,
) -> NightSpreads:
    """How much a night of a weekday varies around what a plan states.

    Args:
        rates, changes: as learned for the plan; `increments`: what `changes` were learned from.
        weekday: 0 for Monday; None: how much any night varies around what was learned.
        usual: of what the ledger is silent of.
    """
    rates = list(rates)
    known, varies, noise = dict[str, float](), dict[str, float](), dict[str, float]()
    for rate in rates:
        between = beyond_chance(rate.spread, rate.noise or 0.0, rate.runs / rate.nights)
        off = 0.0 if weekday is None else log(rate.factor)
        varies[rate.what] = _together(between, rate.error)
        known[rate.what] = hypot(varies[rate.what], off)
        if rate.noise is not None:
            noise[rate.what] = max(LEAST_NOISE, rate.noise)
    by_weekday = weekday is not None
    singly, common = _of_increments(plan, changes, increments, by_weekday=by_weekday)
    offs = {
        machine: _off(plan.machine_by_id[machine], changes[machine], weekday)
        for machine in singly
        if plan.machine_by_id[machine].daily_change > 0
    }
    folder_off = _of_folders(plan, offs, LEAST_OF_A_FOLDER)
    for folder, spread in common.items():
        known[f"change:{folder}"] = _together(spread, folder_off.get(folder, 0.0))
    own = dict[str, float]()
    for machine, off in offs.items():
        folder = folder_of(plan.machine_by_id[machine])
        error = singly[machine] / sqrt(changes[machine].runs)
        own[machine] = _together(singly[machine], error, off - folder_off.get(folder, 0.0))
    noise |= {
        f"change:{folder}": spread for folder, spread in _of_folders(plan, own, LEAST_TOLD).items()
    }

    def others(of: Mapping[str, float], kind: str, usual: float, least: int = LEAST_TOLD) -> float:
        told = [each for what, each in of.items() if kind_of(what) == kind]
        return median(told) if len(told) >= least else usual

    def unseen(kind: str, usual: float, least: int) -> float:
        """What varies of a rate that no night has shown. It may be as far off from what was stated
        as the others were."""
        offs = [abs(rate.off) for rate in rates if kind_of(rate.what) == kind]
        varied = others(varies, kind, usual, least)
        return varied if weekday is None or len(offs) < least else hypot(varied, median(offs))

    fading = [rate.fades_s for rate in rates if rate.fades_s is not None]
    return NightSpreads(
        known,
        unseen("stream", usual.stream, LEAST_STREAMS),
        unseen("rate", usual.rate, LEAST_TOLD),
        others(known, "change", usual.change),
        own,
        median(own.values()) if len(own) >= LEAST_TOLD else usual.own_change,
        noise,
        others(noise, "stream", usual.stream_noise),
        others(noise, "rate", usual.rate_noise),
        others(noise, "change", usual.change_noise),
        median(fading) if fading else usual.fades_s,
    )


def _of_folders(plan: Plan, of: Mapping[str, float], least: int) -> dict[str, float]:
    """The median of each folder that has a value for at least so many of its machines."""
    by_folder = defaultdict[str, list[float]](list)
    for machine, value in of.items():
        by_folder[folder_of(plan.machine_by_id[machine])].append(value)
    return {folder: median(each) for folder, each in by_folder.items() if len(each) >= least}


def _together(*spreads: float) -> float:
    return max(LEAST_SPREAD, hypot(*spreads))


def _of_increments(
    plan: Plan,
    changes: Mapping[str, LearnedChange],
    increments: Iterable[Increment],
    *,
    by_weekday: bool,
) -> tuple[dict[str, float], dict[str, float]]:
    """The spreads of single machines around their folders, and of what folders have in common."""
    zone = planner_zone(plan)
    nights = defaultdict[tuple[str, object], list[tuple[str, float]]](list)
    for told in shares_changed(plan, increments):
        learned = changes.get(told.machine)
        if learned is None or told.share is None or told.at < (learned.since or told.at):
            continue
        machine = plan.machine_by_id[told.machine]
        night = night_at(told.at, zone).date
        change = learned.in_night(night.weekday()) if by_weekday else learned.change
        left = log(told.share / _expected(machine, learned, change, told.days))
        nights[folder_of(machine), night].append((told.machine, left))
    middles = defaultdict[str, list[tuple[float, int]]](list)
    singly = defaultdict[str, list[float]](list)
    for (folder, _), each in nights.items():
        middle = median(left for _, left in each) if len(each) >= LEAST_OF_A_FOLDER else 0.0
        if len(each) >= LEAST_OF_A_FOLDER:
            middles[folder].append((middle, len(each)))
        for name, left in each:
            singly[name].append(left - middle)
    own = {name: robust_spread(each) for name, each in singly.items() if len(each) >= LEAST_RUNS}
    usual = median(own.values()) if own else 0.0
    common = {}
    for folder, told_nights in middles.items():
        if len(told_nights) >= LEAST_RUNS:
            spread = robust_spread([middle for middle, _ in told_nights])
            common[folder] = beyond_chance(spread, usual, median(n for _, n in told_nights))
    return own, common


def _off(machine: Machine, learned: LearnedChange, weekday: int | None) -> float:
    """By what logarithm a plan's change of a machine is off from what was learned of a night."""
    return 0.0 if weekday is None else log(learned.in_night(weekday) / machine.daily_change)


def _expected(machine: Machine, learned: LearnedChange, change: float, days: float) -> float:
    """The share of what is in use that was to be expected to change: section 4."""
    ceiling = learned.ceiling or machine.churn_ceiling or 1.0
    return changed_share(change, ceiling, days)
