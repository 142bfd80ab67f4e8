"""How much machines really change a day, as the incrementals of the past show it.

An incremental brings what changed since the machine's run before. Section 4 has that saturate:
changed = U · h · (1 - exp(-c · t / h)) after t days. Where the spans between runs differ enough, c
and h are both fitted to the logarithms, with a loss that few odd runs do not move: for each c / h
the median of what is left, and of all c / h the one with the least soft L1 loss. Where spans are
all alike, only c can be found, and h stays as it is stated. Each run gives a c of its own; the
error is 1.4826 times the median distance of these from their median (the MAD as an estimate of the
standard deviation: P. J. Rousseeuw, C. Croux, "Alternatives to the median absolute deviation",
1993), over the root of the number of runs.

Few runs are weak evidence. So the logarithm of c moves towards the median of the machine's folder,
which weighs as much as `LIKE_RUNS` runs.

Nights differ by weekday where the logarithms of what single runs say do so plainly: one-way
analysis of variance over the weekdays (R. A. Fisher, "Statistical Methods for Research Workers",
1925; SciPy `f_oneway`). The factor of a weekday is then the median of its nights over c, drawn to
that of the folder in the same way.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass, replace
from math import exp, log, log1p, sqrt
from statistics import median
from typing import NamedTuple

import numpy as np
from scipy.stats import f_oneway

from gambrel.core.ledger.growth import payload_bytes
from gambrel.core.ledger.robust import LEAST_OF_A_FOLDER, LEAST_RUNS, robust_spread, speaks_against
from gambrel.core.model.volume import protected_bytes, protected_disks
from gambrel.core.nights.nights import night_at, planner_zone
from gambrel.core.plan.objects import Job, Machine, Plan

ONE_NIGHT = 1.5
"""An increment over more days tells nothing of one weekday."""
LONGEST_DAYS = 400.0
"""A longer span than this is a fault of the ledger."""
LONG_SPAN, LEAST_LONG_SPANS = 2.0, 4
"""The ceiling can be told from so many spans that are so many times the usual one."""
LIKE_RUNS = 3.0
LOWEST, HIGHEST = 1e-5, 5.0
"""Of a day's change as a share of what is in use."""
LOWEST_CEILING = 0.01
COARSE, FINE, FINER = 64, 17, 2
"""Points of the grids on which a curve is looked for, and how often they become finer."""
USUALLY_OFF = 0.2
"""How far, in logarithms, runs usually are from the curve; those that are further count less."""
FULLY = 1.0
"""A ceiling at which all that is in use changes."""
TURNED, LEAST_TURNED = 3.0, 3
"""A change of behaviour: so many runs in a row that say so many times, or a part of, as much."""

STATED_TO = 3
"""Change is stated to a tenth of a percent, so many decimals; less says nothing against it."""
APART = 0.1
"""By less than this part of what is stated it holds."""

LEAST_OF_A_WEEKDAY = 3
"""With fewer nights of a weekday, the learner treats it like any other day."""
BY_CHANCE = 0.001
"""Weekdays differ plainly where chance makes as much of them in fewer than so many cases."""
WORTH_TELLING = 1.25
"""And where some weekday has so many times, or a part of, the usual change."""

Weekdays = tuple[float, ...]
"""Seven factors, Monday first; or none."""
Increment = tuple[str, str, float, float, float]
"""(machine, job, days since its run before, stored bytes, when in UTC seconds)."""


@dataclass(frozen=True, slots=True)
class LearnedChange:
    """The daily change of a machine, with its standard error, and what it rests on.

    Attributes:
        change: a share of what is in use, a day. `error`: its standard error.
        ceiling: None where the spans are too alike to tell.
        runs: how many incrementals; `left_out`: those that cannot be, as of no span or no bytes.
        since: when the machine began to change plainly more or less than before, from which on its
            runs are counted; None: it did not.
        by_weekday: how many times as much changes in the nights of each weekday, Monday first;
            empty where they do not plainly differ.
    """

    machine: str
    change: float
    error: float
    ceiling: float | None
    runs: int
    left_out: int
    since: float | None = None
    by_weekday: Weekdays = ()

    def in_night(self, weekday: int) -> float:
        """The daily change of a night of a weekday, 0 for Monday."""
        return self.change * (self.by_weekday[weekday] if self.by_weekday else 1.0)

    def speaks_against(self, stated: float) -> bool:
        """Whether the ledger says plainly that a daily change does not hold."""
        return speaks_against(stated, self.change, self.error, 10.0**-STATED_TO, APART)


def used_bytes(job: Job, machine: Machine) -> float:
    """What a job protects of a machine."""
    return sum(protected_bytes(job, machine, disk) for disk in protected_disks(job, machine))


def _daily(share: float, ceiling: float, days: float) -> float:
    """The daily change from which a share comes within some days; the inverse of the curve."""
    # At the ceiling the curve says nothing any more.
    return -ceiling * log1p(-min(share / ceiling, 0.999)) / days


class ShareChanged(NamedTuple):
    """What one incremental tells.

    Attributes:
        days: since the machine's run before.
        share: of what is in use that had changed; None where that cannot be, as of no span or no
            bytes.
        at: when it was read, UTC seconds.
    """

    machine: str
    job: str
    days: float
    share: float | None
    at: float


def shares_changed(plan: Plan, increments: Iterable[Increment]) -> Iterator[ShareChanged]:
    """What incrementals of the machines and jobs of a plan tell; those of others are left out."""
    used_by: dict[tuple[str, str], float] = {}
    for machine, job, days, stored, at in increments:
        told, owner = plan.job_by_id.get(job), plan.machine_by_id.get(machine)
        if told is None or owner is None:
            continue
        if (machine, job) not in used_by:
            used_by[machine, job] = used_bytes(told, owner)
        used = used_by[machine, job]
        changed = payload_bytes(plan, told, owner, stored)
        possible = 0 < days <= LONGEST_DAYS and changed > 0 and used > 0
        yield ShareChanged(machine, job, days, changed / used if possible else None, at)


def learned_changes(plan: Plan, increments: Iterable[Increment]) -> Mapping[str, LearnedChange]:
    """The daily change of each machine that has enough incrementals.

    Jobs of one machine may leave out different disks; the job with most runs tells. What no run of
    the plan can be (machines or jobs that it does not have, spans or bytes of nothing or less) is
    left out and counted.
    """
    series: dict[tuple[str, str], list[tuple[float, float, float]]] = {}
    odd: dict[str, int] = {}
    for told in shares_changed(plan, increments):
        if told.share is None:
            odd[told.machine] = odd.get(told.machine, 0) + 1
        else:
            run = (told.days, told.share, told.at)
            series.setdefault((told.machine, told.job), []).append(run)
    best: dict[str, list[tuple[float, float, float]]] = {}
    for (machine, _), found in sorted(series.items()):
        if len(found) > len(best.get(machine, ())):
            best[machine] = sorted(found, key=lambda run: run[2])
    zone = planner_zone(plan)
    fitted = {
        machine: _fitted(plan.machine_by_id[machine], found, odd.get(machine, 0), zone)
        for machine, found in best.items()
        if len(found) >= LEAST_RUNS
    }
    return _drawn_to_folders(plan, fitted)


def _fitted(
    machine: Machine, runs: Sequence[tuple[float, float, float]], left_out: int, zone: str
) -> LearnedChange:
    days = [run[0] for run in runs]
    shares = [run[1] for run in runs]
    ceiling = None
    long = sum(span >= LONG_SPAN * median(days) for span in days)
    if long >= LEAST_LONG_SPANS:
        change, ceiling = _curve(days, shares)
        level = ceiling
    else:
        level = machine.churn_ceiling or FULLY
    level = max(level, 1.05 * median(shares))
    each = [_daily(share, level, span) for span, share in zip(days, shares, strict=True)]
    turned = _turned(each)
    if turned is not None:
        each = each[turned:]
    if turned is not None or ceiling is None:
        change = median(each)
    spread = robust_spread(each)
    nights = [
        (night_at(at, zone).date.weekday(), log(told / change))
        for (days, _, at), told in zip(runs[turned or 0 :], each, strict=True)
        if days <= ONE_NIGHT
    ]
    return LearnedChange(
        machine.id, min(HIGHEST, max(LOWEST, change)), spread / sqrt(len(each)),
        None if turned is not None else ceiling, len(each), left_out,
        None if turned is None else runs[turned][2], _weekdays(nights),
    )  # fmt: skip


def _weekdays(nights: Iterable[tuple[int, float]]) -> Weekdays:
    """The factor of each weekday, from logarithms of those of single nights."""
    by_weekday: dict[int, list[float]] = {}
    for weekday, told in nights:
        by_weekday.setdefault(weekday, []).append(told)
    known = {day: each for day, each in by_weekday.items() if len(each) >= LEAST_OF_A_WEEKDAY}
    factors = {day: exp(median(each)) for day, each in known.items()}
    if not any(max(told, 1.0 / told) > WORTH_TELLING for told in factors.values()):
        return ()
    if len(known) < 2 or not f_oneway(*known.values()).pvalue < BY_CHANCE:
        return ()
    return tuple(factors.get(day, 1.0) for day in range(7))


def _curve(days: Sequence[float], shares: Sequence[float]) -> tuple[float, float]:
    """The change and the ceiling of the curve that lies best.

    With q = c / h the curve is ln h + ln(1 - exp(-q · t)) in logarithms: for each q the best ln h
    is the median of what is left, and q is looked for on a grid that becomes finer.
    """
    spans, told = np.array(days), np.log(shares)
    most = log(max(FULLY, 1.05 * max(shares)))
    grid = np.geomspace(LOWEST, HIGHEST / LOWEST_CEILING, COARSE)
    for _ in range(FINER + 1):
        left = told - np.log(-np.expm1(-grid[:, None] * spans))
        levels = np.minimum(np.median(left, axis=1), most)
        off = (left - levels[:, None]) / USUALLY_OFF
        best = int(np.argmin(np.sum(np.sqrt(1.0 + off * off), axis=1)))
        quotient, ceiling = float(grid[best]), exp(float(levels[best]))
        lower, upper = grid[max(0, best - 1)], grid[min(len(grid) - 1, best + 1)]
        grid = np.geomspace(lower, upper, FINE)
    return quotient * ceiling, ceiling


def _turned(each: Sequence[float]) -> int | None:
    """From which run on all say at least `TURNED` times, or a part of, what those before say."""
    for begin in range(LEAST_RUNS, len(each) - LEAST_TURNED + 1):
        before, after = median(each[:begin]), each[begin:]
        if min(after) > TURNED * before or max(after) < before / TURNED:
            return begin
    return None


def _drawn_to_folders(plan: Plan, told: Mapping[str, LearnedChange]) -> Mapping[str, LearnedChange]:
    by_folder: dict[str, list[float]] = {}
    weeks: dict[str, list[Weekdays]] = {}
    for machine, learned in told.items():
        folder = plan.machine_by_id[machine].folder
        by_folder.setdefault(folder, []).append(log(learned.change))
        if learned.by_weekday:
            weeks.setdefault(folder, []).append(learned.by_weekday)
    found = {}
    for machine, learned in told.items():
        others = by_folder[plan.machine_by_id[machine].folder]
        # A machine that turned is not like its folder any more.
        if len(others) >= LEAST_OF_A_FOLDER and learned.since is None:
            total = learned.runs + LIKE_RUNS
            drawn = (learned.runs * log(learned.change) + LIKE_RUNS * median(others)) / total
            learned = replace(learned, change=exp(drawn))
        alike = weeks.get(plan.machine_by_id[machine].folder, ())
        if learned.by_weekday and len(alike) >= LEAST_OF_A_FOLDER:
            total = learned.runs + 7 * LIKE_RUNS
            usual = [median(log(week[day]) for week in alike) for day in range(7)]
            drawn_week = tuple(
                exp((learned.runs * log(own) + 7 * LIKE_RUNS * other) / total)
                for own, other in zip(learned.by_weekday, usual, strict=True)
            )
            learned = replace(learned, by_weekday=drawn_week)
        found[machine] = learned
    return found
