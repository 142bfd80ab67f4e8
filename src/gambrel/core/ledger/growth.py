"""How fast machines grow, as their fulls of the past show it.

A full brings all that is in use, so the fulls of a machine tell its size over time. Through the
logarithms of the sizes a line is drawn by the median of all slopes between pairs (Theil-Sen: P. K.
Sen, "Estimates of the regression coefficient based on Kendall's tau", 1968), which a few odd fulls
do not move; its slope over a year is the growth. The interval is that of 90 %, from the same pairs.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping
from dataclasses import dataclass
from math import exp, log
from statistics import median
from typing import NamedTuple

from scipy.stats import theilslopes

from gambrel.core.model.destinations import destination_of
from gambrel.core.model.volume import compression, left_out_bytes, protected_disks
from gambrel.core.plan.objects import Job, Machine, Plan
from gambrel.core.units import DAY, YEAR

LEAST_FULLS = 4
LEAST_SPAN_S = 21 * DAY
CONFIDENCE = 0.9
LEAST_OF_A_ROLE = 3


@dataclass(frozen=True, slots=True)
class LearnedGrowth:
    """The yearly growth of a machine, with its 90 % interval, and what it rests on.

    Attributes:
        fulls: how many there are; `days`: between the first and the last.
    """

    machine: str
    growth: float
    low: float
    high: float
    fulls: int
    days: float


Full = tuple[str, str, float, float]
"""(machine, job, start in UTC seconds, bytes) of a full."""


def payload_bytes(plan: Plan, job: Job, machine: Machine, stored: float) -> float:
    """What a job had read of a machine, from what the repository kept of it."""
    dedupe: float = plan.repository_by_id[destination_of(plan, job, machine)].dedupe_ratio
    return stored * compression(job, machine) * dedupe


def used_sizes(plan: Plan, fulls: Iterable[Full]) -> Iterator[Full]:
    """What was in use when each full was made: what it stored, plus the swap and paths left out.

    Fulls of jobs and machines that the plan does not have are left out.
    """
    for machine, job, at, stored in fulls:
        told, owner = plan.job_by_id.get(job), plan.machine_by_id.get(machine)
        if told is None or owner is None:
            continue
        left_out = sum(left_out_bytes(told, owner, d) for d in protected_disks(told, owner))
        yield machine, job, at, payload_bytes(plan, told, owner, stored) + left_out


def learned_growth(
    fulls: Iterable[Full],
) -> Mapping[str, LearnedGrowth]:
    """The growth of each machine that has enough fulls over enough time.

    Args:
        fulls: with the bytes in use. Jobs may leave out different disks, so fulls of different jobs
            are not compared; the job with most of them tells.
    """
    series: dict[tuple[str, str], list[tuple[float, float]]] = {}
    for machine, job, at, size in fulls:
        if size > 0:
            series.setdefault((machine, job), []).append((at, size))
    best: dict[str, list[tuple[float, float]]] = {}
    for (machine, _), found in sorted(series.items()):
        if len(found) > len(best.get(machine, ())):
            best[machine] = sorted(found)
    told = {}
    for machine, found in best.items():
        span = found[-1][0] - found[0][0]
        if len(found) < LEAST_FULLS or span < LEAST_SPAN_S:
            continue
        years = [(at - found[0][0]) / YEAR for at, _ in found]
        slope, _, low, high = theilslopes([log(size) for _, size in found], years, CONFIDENCE)
        told[machine] = LearnedGrowth(
            machine, _yearly(slope), _yearly(low), _yearly(high), len(found), span / DAY
        )
    return told


class RoleGrowth(NamedTuple):
    """How machines of a role usually grow, and of how many that is the median."""

    growth: float
    machines: int


def growth_by_role(plan: Plan, learned: Mapping[str, LearnedGrowth]) -> Mapping[str, RoleGrowth]:
    """The median growth of each role of which at least `LEAST_OF_A_ROLE` machines are known."""
    known: dict[str, list[float]] = {}
    for machine in plan.machines:
        if machine.facts.role and machine.id in learned:
            known.setdefault(machine.facts.role, []).append(learned[machine.id].growth)
    return {
        role: RoleGrowth(median(found), len(found))
        for role, found in known.items()
        if len(found) >= LEAST_OF_A_ROLE
    }


def _yearly(slope: float) -> float:
    """A slope of logarithms a year as a share; no faster than what the plan file takes."""
    return exp(min(4.6, max(-20.0, slope))) - 1.0
